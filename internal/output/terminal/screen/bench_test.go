package screen

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

// BenchmarkWrite measures what a program writes in 64 KiB: lines of text, a full screen with a color for each word,
// with a color of 16 million for each character, frames of tables, and text of two columns for each character.
func BenchmarkWrite(b *testing.B) {
	const cols, rows = 158, 46
	r := rand.New(rand.NewPCG(1, 1))
	full := func(row func(into *bytes.Buffer)) []byte {
		var into bytes.Buffer
		for y := 0; into.Len() < 64<<10; y = (y + 1) % rows {
			fmt.Fprintf(&into, "\x1b[%d;1H", y+1)
			row(&into)
		}
		return into.Bytes()
	}
	for _, test := range []struct {
		name string
		text []byte
	}{
		{"text", bytes.Repeat([]byte("12:04:31 berth 4 is free until noon\r\n"), 64<<10/37)},
		{"colored words", full(func(into *bytes.Buffer) {
			for range cols / 5 {
				fmt.Fprintf(into, "\x1b[3%dmtide \x1b[m", r.IntN(8))
			}
		})},
		{"colored characters", full(func(into *bytes.Buffer) {
			for range cols {
				fmt.Fprintf(into, "\x1b[38;2;%d;%d;%dm#", r.IntN(256), r.IntN(256), r.IntN(256))
			}
		})},
		{"frames", full(func(into *bytes.Buffer) { into.WriteString("│" + strings.Repeat("─", cols-2) + "│") })},
		{"wide", full(func(into *bytes.Buffer) { into.WriteString(strings.Repeat("渡し船", cols/6)) })},
	} {
		b.Run(test.name, func(b *testing.B) {
			s := New(cols, rows)
			b.SetBytes(int64(len(test.text)))
			b.ReportAllocs()
			for b.Loop() {
				s.Write(test.text)
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*len(test.text)), "ns/byte")
		})
	}
}

// BenchmarkMemory measures a screen that has shown both its grids.
func BenchmarkMemory(b *testing.B) {
	b.ReportAllocs()
	for b.Loop() {
		New(158, 46).Write([]byte("\x1b[?1049h"))
	}
}
