package relay

import (
	_ "embed"
	"encoding/json"
	"html"
	"io"
	"net/http"
	"strings"

	"omnivigil/internal/text/theme"
)

//go:embed page.js
var script []byte

func serveScript(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", types[".js"])
	w.Header().Set("Cache-Control", "no-cache")
	w.Write(script) // the client may be gone
}

// troubleHead is the head of a page that shows why there is no page. Its script reloads it when there is one.
var troubleHead = `<!doctype html>
<html lang="en" data-omnivigil-trouble><head><meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<script src="` + own + `page.js"></script>
<style>
:root{color-scheme:light dark;--dim:` + theme.Dim.OnLight + `;--broken:` + theme.Broken.OnLight + `;
--rule:` + theme.Faint.OnLight + `}
@media (prefers-color-scheme:dark){
:root{--dim:` + theme.Dim.OnDark + `;--broken:` + theme.Broken.OnDark + `;--rule:` + theme.Faint.OnDark + `}
body{background:#0b1220;color:#d2dae8}}
body{font:16px/1.6 system-ui,sans-serif;margin:3rem auto;max-width:60rem;padding:0 1.5rem}
b{color:#fff;background:var(--broken);padding:.1rem .6rem;margin-right:.8rem}
@media (prefers-color-scheme:dark){b{color:#0b1220}}
h1{font-size:1.1rem;font-weight:600}p,small{color:var(--dim)}
h2{font-size:1rem;font-weight:400;color:var(--dim);border-top:1px solid var(--rule);padding-top:.4rem;margin-top:2rem}
pre{font:13px/1.5 ui-monospace,monospace;white-space:pre-wrap;overflow-wrap:anywhere}
</style>`

// page returns the trouble as a page. Packages of templates would link every exported method of the program, because
// templates find methods by name; three places to escape do not need them.
func (t Trouble) page(word, project string) string {
	var b strings.Builder
	b.WriteString(troubleHead)
	escaped := func(parts ...string) {
		for i, s := range parts {
			if i%2 == 1 {
				s = html.EscapeString(s)
			}
			b.WriteString(s)
		}
	}
	block := func(title string, lines []string) {
		if len(lines) > 0 {
			escaped("\n<h2>", title, "</h2><pre>", strings.Join(lines, "\n"), "\n</pre>")
		}
	}
	escaped("<title>", word+"  "+project, "</title></head>\n<body><h1><b>", word, "</b>", t.Text, "</h1>")
	block("places", t.Places)
	block("last lines of "+t.Unit, t.Lines)
	escaped("\n<p>", project, ": this page goes away by itself when it is fixed.</p>\n</body></html>\n")
	return b.String()
}

// fail answers with an error: as a page if the browser requests one, otherwise as JSON or one line.
func (s *Server) fail(w http.ResponseWriter, r *http.Request, status int, t Trouble) {
	s.counts.fail()
	h := w.Header()
	h.Set("Cache-Control", "no-store")
	accepts := r.Header.Get("Accept")
	switch {
	case strings.Contains(accepts, "text/html"):
		word := map[bool]string{true: "BROKEN", false: http.StatusText(status)}[t.Unit != ""]
		h.Set("Content-Type", types[".html"])
		w.WriteHeader(status)
		io.WriteString(w, t.page(word, s.config.Project)) // the client may be gone
	case strings.Contains(accepts, "json"):
		h.Set("Content-Type", types[".json"])
		w.WriteHeader(status)
		json.NewEncoder(w).Encode(map[string]string{"error": t.Text, "unit": t.Unit})
	default:
		http.Error(w, t.Text, status)
	}
}
