package export

import (
	"bytes"
	"fmt"
	"html"
	"net/url"
	"strconv"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/text/escape"
)

// The page uses the reader's own ground, dark or light.
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

// style is what a stretch of text has, as CSS and as an address.
type style struct{ css, link string }

// markUp turns a line with colours (SGR) and links (OSC 8) into HTML.
func markUp(line string) string {
	var b strings.Builder
	var now style
	run := func(text string) {
		if text = html.EscapeString(escape.Lines(text)); text == "" {
			return
		}
		if now.link != "" {
			text = fmt.Sprintf("<a href=\"%s\">%s</a>", html.EscapeString(now.link), text)
		}
		if now.css != "" {
			text = fmt.Sprintf("<span style=\"%s\">%s</span>", now.css, text)
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
		case escape.IsColour(seq):
			now.css = cssOf(now.css, string(seq[2:len(seq)-1]))
		case escape.IsLink(seq):
			now.link = address(string(seq))
		}
		rest = rest[max(n, 1):]
	}
	return b.String()
}

// address returns where a link leads, if that is a page.
func address(seq string) string {
	_, uri, _ := strings.Cut(strings.TrimPrefix(seq, "\x1b]8;"), ";")
	uri = strings.TrimRight(strings.TrimSuffix(uri, "\x1b\\"), "\a")
	if u, err := url.Parse(uri); err != nil || u.Scheme != "http" && u.Scheme != "https" {
		return ""
	}
	return uri
}

// switchesOn is what single parameters of SGR mean in CSS.
var switchesOn = map[string]string{
	"1":  "font-weight:bold",
	"2":  "opacity:.7",
	"3":  "font-style:italic",
	"4":  "text-decoration:underline",
	"21": "text-decoration:underline double",
	"7":  "filter:invert(1)",
	"9":  "text-decoration:line-through",
	"53": "text-decoration:overline",
}

// cssOf returns the CSS after parameters of SGR, in the few forms that a log has: what is
// selected is added, and 0 takes all away.
func cssOf(before, params string) string {
	var parts []string
	if before != "" {
		parts = strings.Split(before, ";")
	}
	codes := strings.Split(params, ";")
	for i := 0; i < len(codes); i++ {
		n, _ := strconv.Atoi(codes[i])
		switch {
		case n == 0:
			parts = nil
		case switchesOn[codes[i]] != "":
			parts = append(parts, switchesOn[codes[i]])
		case n == 38 || n == 48 || n == 58:
			colour, used := extended(codes[i+1:])
			i += used
			if property := map[int]string{38: "color", 48: "background"}[n]; property != "" && colour != "" {
				parts = append(parts, property+":"+colour)
			}
		case n >= 30 && n < 38:
			parts = append(parts, "color:"+indexed(n-30))
		case n >= 90 && n < 98:
			parts = append(parts, "color:"+indexed(n-90+8))
		case n >= 40 && n < 48:
			parts = append(parts, "background:"+indexed(n-40))
		case n >= 100 && n < 108:
			parts = append(parts, "background:"+indexed(n-100+8))
		}
	}
	return strings.Join(parts, ";")
}

// extended reads a colour after 38, 48 or 58, and returns how many parameters it has.
func extended(codes []string) (colour string, used int) {
	switch {
	case len(codes) > 1 && codes[0] == "5":
		n, _ := strconv.Atoi(codes[1])
		return indexed(n), 2
	case len(codes) > 3 && codes[0] == "2":
		r, _ := strconv.Atoi(codes[1])
		g, _ := strconv.Atoi(codes[2])
		b, _ := strconv.Atoi(codes[3])
		return fmt.Sprintf("rgb(%d,%d,%d)", r, g, b), 4
	}
	return "", len(codes)
}

// sixteen are the terminal's own colours, chosen so that they read on both grounds.
var sixteen = [16]string{
	"#555b66", "#c0392b", "#2e8b57", "#a86e00", "#2f6fb5", "#8e4fa8", "#1b8a8f", "#8a919c",
	"#6b7280", "#e0574a", "#3aa76d", "#c98a1b", "#4a8fd8", "#ab6bc5", "#2aa7ad", "#a9b0ba",
}

// indexed is one of the 256 colours that terminals have agreed on: 16, a cube of 6 and a ramp
// of 24 grey ones.
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
