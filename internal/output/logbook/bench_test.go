package logbook

import (
	"bytes"
	"testing"
)

// BenchmarkScanBlock measures what a terminal holds of lines that need no change: plain, colored, and in another
// language.
func BenchmarkScanBlock(b *testing.B) {
	for _, test := range []struct{ name, line string }{
		{"plain", "00012345 high water at the third berth\r\n"},
		{"colors", "\x1b[32mINFO\x1b[0m \x1b[1mtides\x1b[0m: 00012345 vessels at \x1b[36mberth:3\x1b[0m\r\n"},
		{"letters", "Flut 00012345: Über den Prielen 潮汐 — 3 m, Ebbe ↓\r\n"},
	} {
		b.Run(test.name, func(b *testing.B) {
			var s Scanner
			block := bytes.Repeat([]byte(test.line), 4096/len(test.line))
			b.SetBytes(int64(len(block)))
			for b.Loop() {
				if _, got, _ := s.ScanBlock(block); len(got) < len(block) {
					b.Fatal("not a block")
				}
			}
		})
	}
}
