package export

import (
	"bytes"
	"fmt"
	"html"
	"net/url"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/pen"
)

// The page uses the reader's background, dark or light.
const (
	pageBegin = `<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>%s</title>
<style>
:root { color-scheme: light dark; }
body { font: 13px/1.45 ui-monospace, "DejaVu Sans Mono", monospace; margin: 1.5rem; }
h1 { font-size: 1rem; }
div { white-space: pre-wrap; min-height: 1.45em; tab-size: 8; }
.own { opacity: .75; } .broken { color: #c0392b; opacity: 1; } .stale { color: #a86e00; opacity: 1; }
</style></head><body><h1>%s</h1>
`
	pageEnd = "</body></html>\n"
)

func escapeHTML(text string) string { return html.EscapeString(escape.Text(text)) }

// markUp turns a line with colors (SGR) and links (OSC 8) into HTML.
func markUp(line string) string {
	var b strings.Builder
	var now pen.Pen
	run := func(text string) {
		if text = html.EscapeString(escape.Lines(text)); text == "" {
			return
		}
		if link := address(now.Link); link != "" {
			text = fmt.Sprintf("<a href=\"%s\">%s</a>", html.EscapeString(link), text)
		}
		if css := cssOf(now); css != "" {
			text = fmt.Sprintf("<span style=\"%s\">%s</span>", css, text)
		}
		b.WriteString(text)
	}
	for rest := []byte(line); len(rest) > 0; {
		at := bytes.IndexByte(rest, 0x1b)
		if at < 0 {
			at = len(rest)
		}
		run(string(rest[:at]))
		if rest = rest[at:]; len(rest) == 0 {
			break
		}
		seq, _, n, _ := ansi.DecodeSequence(rest, 0, nil)
		switch {
		case escape.IsColor(seq):
			now.Selects(seq)
		case escape.IsLink(seq):
			now.Links(seq)
		}
		rest = rest[max(n, 1):]
	}
	return b.String()
}

// address returns the address of a link, if it is a web page.
func address(link string) string {
	uri := escape.LinkAddress([]byte(link))
	if u, err := url.Parse(uri); err != nil || u.Scheme != "http" && u.Scheme != "https" {
		return ""
	}
	return uri
}

// weightCSS is the CSS of weights.
var weightCSS = []struct {
	weight pen.Weight
	css    string
}{
	{pen.Bold, "font-weight:bold"},
	{pen.Faint, "opacity:.7"},
	{pen.Italic, "font-style:italic"},
	{pen.Underlined, "text-decoration:underline"},
	{pen.TwiceUnderlined, "text-decoration:underline double"},
	{pen.Inverse, "filter:invert(1)"},
	{pen.Struck, "text-decoration:line-through"},
	{pen.Overlined, "text-decoration:overline"},
}

// cssOf returns the CSS of a pen.
func cssOf(p pen.Pen) string {
	var parts []string
	for _, w := range weightCSS {
		if p.Weight&w.weight != 0 {
			parts = append(parts, w.css)
		}
	}
	for _, c := range []struct {
		property string
		color    pen.Color
	}{{"color", p.Ink}, {"background", p.Paper}} {
		if n, ok := c.color.Index(); ok {
			parts = append(parts, c.property+":"+indexed(n))
		} else if r, g, b, ok := c.color.RGB(); ok {
			parts = append(parts, fmt.Sprintf("%s:rgb(%d,%d,%d)", c.property, r, g, b))
		}
	}
	return strings.Join(parts, ";")
}

// sixteen are the terminal's own colors, readable on both backgrounds.
var sixteen = [16]string{
	"#555b66", "#c0392b", "#2e8b57", "#a86e00", "#2f6fb5", "#8e4fa8", "#1b8a8f", "#8a919c",
	"#6b7280", "#e0574a", "#3aa76d", "#c98a1b", "#4a8fd8", "#ab6bc5", "#2aa7ad", "#a9b0ba",
}

// indexed is one of the 256 colors of terminals: 16, a cube of 6 and a ramp of 24 greys.
func indexed(n int) string {
	switch {
	case n < 0 || n > 255:
		return "inherit"
	case n < 16:
		return sixteen[n]
	case n >= 232:
		grey := 8 + 10*(n-232)
		return fmt.Sprintf("rgb(%d,%d,%d)", grey, grey, grey)
	}
	n -= 16
	level := func(i int) int {
		if i == 0 {
			return 0
		}
		return 55 + 40*i
	}
	return fmt.Sprintf("rgb(%d,%d,%d)", level(n/36), level(n/6%6), level(n%6))
}
