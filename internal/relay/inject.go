package relay

import (
	"bytes"
	"io"
	"strings"

	"golang.org/x/net/html"
)

// Inject returns a page with the script in it, as it comes: right after the beginning of its head, or
// before the first that belongs to its body. The nonce, if there is one, is the script's.
//
// Nothing else of the page is changed, however broken it is.
func Inject(page io.Reader, nonce string) io.Reader {
	return &injecting{z: html.NewTokenizer(page), script: scriptTag(nonce)}
}

func scriptTag(nonce string) []byte {
	attribute := ""
	if nonce != "" {
		attribute = ` nonce="` + html.EscapeString(nonce) + `"`
	}
	return []byte(`<script src="` + own + `page.js"` + attribute + `></script>`)
}

type injecting struct {
	z      *html.Tokenizer
	script []byte
	ready  bytes.Buffer
	put    bool
	err    error
}

func (i *injecting) Read(p []byte) (int, error) {
	for i.ready.Len() == 0 && i.err == nil {
		i.step()
	}
	if i.ready.Len() > 0 {
		return i.ready.Read(p)
	}
	return 0, i.err
}

// step takes one token. Of one that the page ends in the midst of, what there is goes through.
func (i *injecting) step() {
	kind := i.z.Next()
	raw := bytes.Clone(i.z.Raw())
	if kind == html.ErrorToken {
		i.ready.Write(raw)
		if i.err = i.z.Err(); !i.put && i.err == io.EOF {
			i.insert()
		}
		return
	}
	if i.put {
		i.ready.Write(raw)
		return
	}
	name := ""
	if kind == html.StartTagToken || kind == html.SelfClosingTagToken || kind == html.EndTagToken {
		tag, _ := i.z.TagName()
		name = string(tag)
	}
	switch {
	case kind == html.StartTagToken && name == "head":
		i.ready.Write(raw)
		i.insert()
	case kind == html.DoctypeToken, kind == html.CommentToken, kind == html.StartTagToken && name == "html",
		kind == html.TextToken && strings.TrimSpace(string(raw)) == "":
		i.ready.Write(raw)
	default:
		i.insert()
		i.ready.Write(raw)
	}
}

func (i *injecting) insert() {
	i.ready.Write(i.script)
	i.put = true
}
