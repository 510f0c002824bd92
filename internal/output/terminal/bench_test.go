package terminal

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"omnivigil/internal/api"
)

// BenchmarkWrite measures a block of 64 KiB: plain and colored lines while no face looks, compared with copying them;
// the same while a face looks; and a screen that is redrawn.
func BenchmarkWrite(b *testing.B) {
	var plain, colored, drawn bytes.Buffer
	for i := 0; plain.Len() < 64<<10; i++ {
		fmt.Fprintf(&plain, "12:04:31 berth %d is free until noon\r\n", i)
		fmt.Fprintf(&colored, "\x1b[32m12:04:31\x1b[m berth \x1b[1m%d\x1b[m is free\r\n", i)
		fmt.Fprintf(&drawn, "\x1b[%d;1H\x1b[3%dm%s\x1b[m", i%46+1, i%8, strings.Repeat("tide ", 30))
	}
	into := make([]byte, 2*plain.Len())
	b.Run("copy", func(b *testing.B) {
		b.SetBytes(int64(plain.Len()))
		for b.Loop() {
			copy(into, plain.Bytes())
		}
	})
	for _, test := range []struct {
		name  string
		bytes []byte
		looks bool
	}{{"lines", plain.Bytes(), false}, {"colored", colored.Bytes(), false}, {"lines looked at", plain.Bytes(), true},
		{"drawn", append([]byte("\x1b[?1049h"), drawn.Bytes()...), true}} {
		b.Run(test.name, func(b *testing.B) {
			t := New(api.Size{Cols: 158, Rows: 46}, func([]byte) {})
			defer t.Close()
			if test.looks {
				_, end := t.Look()
				defer end()
			}
			b.SetBytes(int64(len(test.bytes)))
			for b.Loop() {
				t.Write(test.bytes, func([]byte) {}, func(bool) {})
			}
		})
	}
}

// BenchmarkPicture measures a picture of a full screen.
func BenchmarkPicture(b *testing.B) {
	t := New(api.Size{Cols: 158, Rows: 46}, func([]byte) {})
	defer t.Close()
	_, end := t.Look()
	defer end()
	for i := range 46 {
		t.Write(
			fmt.Appendf(
				nil,
				"\x1b[%d;1H\x1b[3%dm%s\x1b[m%s",
				i+1,
				i%8,
				strings.Repeat("tide ", 15),
				strings.Repeat("ebb ", 20),
			),
			func([]byte) {},
			func(bool) {},
		)
	}
	before := t.Picture(nil).Lines
	for b.Loop() {
		Changed(before, t.Picture(nil).Lines)
	}
}
