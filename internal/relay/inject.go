package relay

import (
	"bytes"
	"io"
	"net/http"
	"strings"

	"golang.org/x/net/html"
)

// Inject returns a page with the script in it, as a stream: right after the start tag of its head, or before the
// first element of its body. The nonce, if there is one, is for the script.
//
// Nothing else in the page changes, however malformed it is. What follows the script is not parsed, and before that
// no more than maxHeld bytes are held back.
func Inject(page io.Reader, nonce string) io.Reader {
	return &injecting{page: page, script: scriptTag(nonce)}
}

func scriptTag(nonce string) []byte {
	attribute := ""
	if nonce != "" {
		attribute = ` nonce="` + html.EscapeString(nonce) + `"`
	}
	return []byte(`<script src="` + own + `page.js"` + attribute + `></script>`)
}

// maxHeld is the maximum length of a tag or comment before the script.
const maxHeld = 16 << 10

type injecting struct {
	page   io.Reader
	script []byte
	held   []byte // of an incomplete construct
	ready  bytes.Buffer
	put    bool
	err    error
}

func (i *injecting) Read(p []byte) (int, error) {
	for i.ready.Len() == 0 && i.err == nil {
		if i.put {
			return i.page.Read(p)
		}
		i.step()
	}
	if i.ready.Len() > 0 {
		return i.ready.Read(p)
	}
	return 0, i.err
}

// step handles the next bytes.
func (i *injecting) step() {
	chunk := make([]byte, 4<<10)
	n, err := i.page.Read(chunk)
	i.held = append(i.held, chunk[:n]...)
	for !i.put && len(i.held) > 0 {
		length, head := prologue(i.held)
		if length == 0 && len(i.held) <= maxHeld { // the rest is missing
			break
		}
		i.ready.Write(i.held[:max(length, 0)])
		i.held = i.held[max(length, 0):]
		if length <= 0 || head {
			i.insert()
		}
	}
	if err == io.EOF && !i.put && !bytes.HasPrefix(i.held, []byte("<!")) {
		i.insert()
	}
	if i.err = err; i.put || err != nil {
		i.ready.Write(i.held)
		i.held = nil
	}
	if !i.put && err == io.EOF {
		i.insert()
	}
}

func (i *injecting) insert() {
	i.ready.Write(i.script)
	i.put = true
}

// prologue returns the length of the first construct of a page if the script goes after it: white space, a doctype, a
// comment, the tag of html or of head; head reports that it is the head. The length is 0 if more bytes are needed,
// and -1 if the construct is another one.
func prologue(text []byte) (length int, head bool) {
	if blank := len(text) - len(bytes.TrimLeft(text, " \t\r\n\f")); blank > 0 {
		return blank, false
	}
	if bom := []byte("\xef\xbb\xbf"); bytes.HasPrefix(text, bom) {
		return len(bom), false
	} else if bytes.HasPrefix(bom, text) {
		return 0, false
	}
	ends := func(from int, end string) int {
		if at := bytes.Index(text[min(from, len(text)):], []byte(end)); at >= 0 {
			return from + at + len(end)
		}
		return 0
	}
	switch {
	case text[0] != '<':
		return -1, false
	case bytes.HasPrefix(text, []byte("<!--")):
		return ends(2, "-->"), false // <!--> is complete, see "comment start state" in the HTML standard
	case bytes.HasPrefix([]byte("<!--"), text):
		return 0, false
	case text[1] == '!' || text[1] == '?':
		return ends(2, ">"), false
	}
	for _, name := range []string{"<html", "<head"} {
		switch {
		case len(text) <= len(name):
			if strings.EqualFold(string(text), name[:len(text)]) {
				return 0, false
			}
		case strings.EqualFold(string(text[:len(name)]), name) &&
			bytes.IndexByte([]byte(" \t\r\n\f/>"), text[len(name)]) >= 0:
			return tagEnd(text), name == "<head"
		}
	}
	return -1, false
}

// tagEnd returns the length of the tag at the beginning of a text; 0: it is incomplete.
func tagEnd(text []byte) int {
	quote := byte(0)
	for at, c := range text {
		switch {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case (c == '"' || c == '\'') && bytes.IndexByte([]byte("= \t\r\n\f"), text[at-1]) >= 0:
			quote = c
		case c == '>':
			return at + 1
		}
	}
	return 0
}

// isNavigation reports whether a browser requests a document to navigate to, and not something for a page: see "Fetch
// Metadata Request Headers". Browsers without these headers are recognized by what they accept.
func isNavigation(r *http.Request) bool {
	if r.Method != http.MethodGet {
		return false
	}
	switch r.Header.Get("Sec-Fetch-Dest") {
	case "document", "iframe", "frame":
		return true
	case "":
		return strings.Contains(r.Header.Get("Accept"), "text/html") && r.Header.Get("Sec-Fetch-Mode") == ""
	}
	return false
}
