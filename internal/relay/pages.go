package relay

import (
	"encoding/json"
	"fmt"
	"net/http"
	"path"
	"slices"
	"strings"
	"sync"
	"time"
)

// pages are the connected browsers.
type pages struct {
	mu        sync.Mutex
	open      map[*page]bool
	seen      string // the generation that pages were last told about
	refreshed int    // how often they were told to refresh
	stale     string // as pages show it; empty: they are current
}

// page is one page in a browser.
type page struct {
	Browser
	tell chan message // pending messages; a page that is too far behind is disconnected
}

// Browser is a connected page.
type Browser struct {
	Agent       string // such as "Firefox 140"
	Path        string // of the page
	Since       time.Time
	RefreshedAt time.Time // when it was last told to refresh; zero: never
}

// message is a message to a page.
type message struct {
	Do    string   `json:"do"` // hello, reload, swap, stale
	Files []string `json:"files,omitempty"`
	Text  string   `json:"text,omitempty"`
	Count int      `json:"count"` // the number of reloads so far: a page with another number is outdated
}

// Browsers returns the connected pages, oldest first.
func (s *Server) Browsers() []Browser {
	p := &s.pages
	p.mu.Lock()
	defer p.mu.Unlock()
	var all []Browser
	for one := range p.open {
		all = append(all, one.Browser)
	}
	slices.SortFunc(all, func(a, b Browser) int { return a.Since.Compare(b.Since) })
	return all
}

// Limits of what pages can make the server store.
const (
	maxPages    = 200
	longestPath = 1 << 10
)

// events sends messages to a page as server-sent events, until it disconnects.
func (s *Server) events(w http.ResponseWriter, r *http.Request) {
	path := r.URL.Query().Get("page")
	if len(path) > longestPath {
		path = path[:longestPath]
	}
	one := &page{
		Browser{Agent: agentOf(r.UserAgent()), Path: strings.ToValidUTF8(path, ""), Since: time.Now()},
		make(chan message, 64),
	}
	p := &s.pages
	p.mu.Lock()
	if p.open == nil {
		p.open = map[*page]bool{}
	}
	if len(p.open) >= maxPages {
		p.mu.Unlock()
		http.Error(w, fmt.Sprintf("%d pages listen already", maxPages), http.StatusServiceUnavailable)
		return
	}
	p.open[one] = true
	one.tell <- message{Do: "hello", Count: p.refreshed, Text: p.stale}
	p.mu.Unlock()
	defer func() {
		p.mu.Lock()
		delete(p.open, one)
		p.mu.Unlock()
	}()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Accel-Buffering", "no")
	out := http.NewResponseController(w)
	const alive = 20 * time.Second // so that proxies do not close the connection
	ticker := time.NewTicker(alive)
	defer ticker.Stop()
	for {
		var err error
		select {
		case m, open := <-one.tell:
			if !open {
				return
			}
			data, _ := json.Marshal(m)
			_, err = fmt.Fprintf(w, "data: %s\n\n", data)
		case <-ticker.C:
			_, err = fmt.Fprint(w, ":\n\n")
		case <-r.Context().Done():
			return
		case <-s.done.Done():
			return
		}
		if err == nil {
			err = out.Flush()
		}
		if err != nil {
			return
		}
	}
}

// tell sends a message to all pages, and returns how many there are.
func (p *pages) tell(m message) int {
	p.mu.Lock()
	defer p.mu.Unlock()
	if m.Do == "reload" {
		p.refreshed++
	}
	m.Count = p.refreshed
	for one := range p.open {
		if m.Do != "stale" {
			one.RefreshedAt = time.Now()
		}
		select {
		case one.tell <- m:
		default:
			close(one.tell)
			delete(p.open, one)
		}
	}
	return len(p.open)
}

// Swap tells pages to swap style sheets and images without a reload, and returns how many there are. Files are paths;
// a page swaps what has the same name, and reloads if it has none.
func (s *Server) Swap(files []string) int {
	if !Swappable(files) {
		return s.Reload(listed(files) + " changed")
	}
	return s.pages.tell(message{Do: "swap", Files: files, Text: "swapped " + listed(files)})
}

// Swappable reports whether pages can swap all of some files.
func Swappable(files []string) bool {
	return !slices.ContainsFunc(files, func(f string) bool { return !swaps[strings.ToLower(path.Ext(f))] })
}

// swaps are the extensions of files that pages swap in place.
var swaps = map[string]bool{
	".css":  true,
	".png":  true,
	".jpg":  true,
	".jpeg": true,
	".gif":  true,
	".webp": true,
	".avif": true,
	".svg":  true,
	".ico":  true,
}

func listed(files []string) string {
	if len(files) > 2 {
		return fmt.Sprintf("%s and %d more", files[0], len(files)-1)
	}
	return strings.Join(files, " and ")
}

// Reload reloads all pages, and returns how many there are.
func (s *Server) Reload(because string) int {
	return s.pages.tell(message{Do: "reload", Text: because})
}

// follow reloads pages when what they come from is at rest in another state than before: once, when all of it is
// ready. A broken state reloads nothing, but is shown.
func (s *Server) follow() {
	changed, end := s.config.Backend.Changed()
	defer end()
	for {
		s.see()
		select {
		case <-changed:
		case <-s.done.Done():
			return
		}
	}
}

// see checks the state of what pages come from.
func (s *Server) see() {
	generations, because, stale := "", "", ""
	for _, unit := range s.units() {
		look := s.config.Backend.Look(unit)
		if look.Stale != "" && stale == "" {
			stale = look.Stale
		}
		if look.Trouble != nil && stale == "" {
			stale = look.Trouble.Text
		}
		if look.Moving || !look.Ready {
			generations = "moving"
			break
		}
		generations += look.Generation + "\n"
		if because == "" {
			because = look.Because
		}
	}
	p := &s.pages
	p.mu.Lock()
	seen, was := p.seen, p.stale
	p.stale = stale
	if generations != "moving" {
		p.seen = generations
	}
	p.mu.Unlock()
	if generations != "moving" && seen != "" && seen != generations {
		s.Reload(because)
	} else if stale != was {
		p.tell(message{Do: "stale", Text: stale})
	}
}

// units are the units that pages come from.
func (s *Server) units() []string {
	var units []string
	units = append(units, s.config.Needs...)
	for _, r := range s.routes {
		if r.target.Unit != "" && !slices.Contains(units, r.target.Unit) {
			units = append(units, r.target.Unit)
		}
	}
	slices.Sort(units)
	return units
}

// agentOf is a browser's name and version in short, from its user agent.
func agentOf(agent string) string {
	for _, known := range []struct{ mark, name string }{
		{"Edg/", "Edge"}, {"OPR/", "Opera"}, {"Firefox/", "Firefox"}, {"HeadlessChrome/", "Chrome"},
		{"Chrome/", "Chrome"}, {"Version/", "Safari"},
	} {
		if _, after, found := strings.Cut(agent, known.mark); found {
			version, _, _ := strings.Cut(after, ".")
			if len(version) < 5 {
				return known.name + " " + version
			}
		}
	}
	const most = 24
	if len(agent) > most {
		agent = agent[:most]
	}
	return strings.ToValidUTF8(agent, "")
}
