package relay

import (
	"errors"
	"html"
	"io"
	"io/fs"
	"mime"
	"net/http"
	"net/url"
	"os"
	"path"
	"strings"
)

// folder serves files. Nothing outside of it is served, not even through links: os.Root prevents that.
type folder struct {
	server   *Server
	root     *os.Root
	prefix   string
	fallback string
}

func (f *folder) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		w.Header().Set("Allow", "GET, HEAD")
		f.server.fail(w, r, http.StatusMethodNotAllowed, Trouble{Text: "files are only read"})
		return
	}
	name := strings.TrimPrefix(strings.TrimPrefix(r.URL.Path, strings.TrimSuffix(f.prefix, "/")), "/")
	name = path.Clean("/" + name)[1:]
	if name == "" {
		name = "."
	}
	if hidden(name) {
		f.missing(w, r, name)
		return
	}
	info, err := f.root.Stat(name)
	switch {
	case err != nil:
		f.missing(w, r, name)
	case info.IsDir() && !strings.HasSuffix(r.URL.Path, "/"):
		// Relative to the request: a path that begins with two slashes would be another host.
		to := url.URL{Path: "./" + path.Base(r.URL.Path) + "/", RawQuery: r.URL.RawQuery}
		w.Header().Set("Location", to.String())
		w.WriteHeader(http.StatusFound)
	case info.IsDir():
		index := path.Join(name, indexPage)
		if page, err := f.root.Stat(index); err == nil && page.Mode().IsRegular() {
			f.file(w, r, index)
			return
		}
		f.list(w, r, name)
	case info.Mode().IsRegular():
		f.file(w, r, name)
	default:
		f.missing(w, r, name)
	}
}

// hidden reports whether an element of a path begins with a dot, as those of settings and version control do.
func hidden(name string) bool {
	for _, part := range strings.Split(name, "/") {
		if strings.HasPrefix(part, ".") && part != "." {
			return true
		}
	}
	return false
}

// types are the content types of front-end files, whatever the machine's own table has.
var types = map[string]string{
	".html":        "text/html; charset=utf-8",
	".htm":         "text/html; charset=utf-8",
	".css":         "text/css; charset=utf-8",
	".js":          "text/javascript; charset=utf-8",
	".mjs":         "text/javascript; charset=utf-8",
	".json":        "application/json",
	".map":         "application/json",
	".svg":         "image/svg+xml",
	".png":         "image/png",
	".jpg":         "image/jpeg",
	".jpeg":        "image/jpeg",
	".gif":         "image/gif",
	".webp":        "image/webp",
	".avif":        "image/avif",
	".ico":         "image/x-icon",
	".woff":        "font/woff",
	".woff2":       "font/woff2",
	".ttf":         "font/ttf",
	".wasm":        "application/wasm",
	".txt":         "text/plain; charset=utf-8",
	".xml":         "application/xml",
	".webmanifest": "application/manifest+json",
	".pdf":         "application/pdf",
	".mp4":         "video/mp4",
	".webm":        "video/webm",
}

// file serves a file: ranges and conditional requests, see RFC 9110. A browser may keep it, but must ask each time.
func (f *folder) file(w http.ResponseWriter, r *http.Request, name string) {
	file, err := f.root.Open(name)
	if err != nil {
		f.missing(w, r, name)
		return
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		f.missing(w, r, name)
		return
	}
	kind := types[strings.ToLower(path.Ext(name))]
	if kind == "" {
		kind = mime.TypeByExtension(path.Ext(name))
	}
	if kind != "" {
		w.Header().Set("Content-Type", kind)
	}
	w.Header().Set("Cache-Control", "no-cache")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	if strings.HasPrefix(kind, "text/html") {
		f.page(w, r, file, http.StatusOK)
		return
	}
	http.ServeContent(w, r, name, info.ModTime(), file)
}

// page serves a page with the script in it. It is never stored: the script belongs to this server.
func (f *folder) page(w http.ResponseWriter, r *http.Request, file io.Reader, status int) {
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	if r.Method == http.MethodGet {
		if isNavigation(r) {
			file = Inject(file, "")
		}
		io.Copy(w, file) // the client may be gone
	}
}

// missing answers for a path without a file: with the fallback, if the browser requests a page.
func (f *folder) missing(w http.ResponseWriter, r *http.Request, name string) {
	if f.fallback != "" && strings.Contains(r.Header.Get("Accept"), "text/html") && !hidden(name) {
		info, err := f.root.Stat(f.fallback)
		if err == nil && info.Mode().IsRegular() {
			file, err := f.root.Open(f.fallback)
			if err != nil {
				f.server.fail(
					w,
					r,
					http.StatusNotFound,
					Trouble{Text: "the start page " + f.fallback + " cannot be read"},
				)
				return
			}
			defer file.Close()
			w.Header().Set("Content-Type", types[".html"])
			f.page(w, r, file, http.StatusOK)
			return
		}
	}
	f.server.fail(w, r, http.StatusNotFound, Trouble{Text: "there is no file " + name})
}

// listing returns a page with links to the entries of a directory.
func listing(title string, names []string) string {
	title = html.EscapeString(title)
	var page strings.Builder
	page.WriteString(`<!doctype html><html lang="en"><head><meta charset="utf-8"><title>` + title + `</title>
<style>body{font:16px/1.6 system-ui,sans-serif;margin:2em;color-scheme:light dark}a{display:block}</style></head>
<body><h1>` + title + `</h1>`)
	for _, name := range names {
		to := url.URL{Path: "./" + name} // without the dot, a name with a colon is not a relative address
		page.WriteString(`<a href="` + html.EscapeString(to.String()) + `">` + html.EscapeString(name) + "</a>\n")
	}
	page.WriteString("</body></html>\n")
	return page.String()
}

// list serves the names in a directory, without hidden ones.
func (f *folder) list(w http.ResponseWriter, r *http.Request, name string) {
	entries, err := fs.ReadDir(f.root.FS(), name)
	if err != nil && !errors.Is(err, io.EOF) {
		f.missing(w, r, name)
		return
	}
	var names []string
	for _, e := range entries {
		switch {
		case hidden(e.Name()):
		case e.IsDir():
			names = append(names, e.Name()+"/")
		default:
			names = append(names, e.Name())
		}
	}
	w.Header().Set("Content-Type", types[".html"])
	f.page(w, r, strings.NewReader(listing(r.URL.Path, names)), http.StatusOK)
}
