package e2e

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ticketOffice is a project with a relay: a Node server whose page has a form and a style sheet that imports another
// one.
type ticketOffice struct {
	t   *testing.T
	dir string
	url string
	run func(words ...string) string
}

const officeServer = `
const fs = require("fs"), page = fs.readFileSync("page.html");
setTimeout(() => require("http").createServer((q, a) => {
  const path = q.url.split("?")[0];
  const type = path.endsWith(".css") ? "text/css" : path.endsWith(".svg") ? "image/svg+xml" : "";
  if (path.endsWith(".css")) a.setHeader("Cache-Control", "max-age=1000");
  if (type) { a.setHeader("Content-Type", type); a.end(fs.readFileSync("style" + path)); return; }
  a.setHeader("Content-Type", "text/html"); a.end(page);
}).listen(process.env.PORT, "127.0.0.1"), 100);
`

const officePage = `<!doctype html><html><head><title>ferries</title><link rel="stylesheet" href="/site.css"></head>
<body><h1 id="heading">ferries</h1><p id="line">to Skerry Holm</p><img src="/logo.svg">
<form><input id="name" name="name"><textarea id="wish"></textarea></form><div style="height: 4000px"></div></body></html>`

// logo is an image of a width.
func logo(width int) string {
	return fmt.Sprintf(`<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="10"/>`, width)
}

func openTicketOffice(t *testing.T) *ticketOffice {
	program := build(t)
	if _, err := exec.LookPath("node"); err != nil {
		t.Skip("node is not installed")
	}
	ports := freePorts(2)
	o := &ticketOffice{t: t, dir: t.TempDir(), url: fmt.Sprintf("http://127.0.0.1:%d", ports[0])}
	o.write("omnivigil.toml", fmt.Sprintf(`
[service.tickets]
run = "exec node server.js"
watch = ["server.js", "page.html"]
debounce = "0"
env = { PORT = "%d" }
ready = { port = %d }
stop = { grace = "1s" }
[[service.tickets.reaction]]
when = "style/*.{css,svg}"
do = "swap-style"
[relay.site]
listen = "127.0.0.1:%d"
to = "tickets"
debounce = "0"
`, ports[1], ports[1], ports[0]))
	o.write("server.js", officeServer)
	o.write("page.html", officePage)
	o.write("style/site.css", "@import url('/colors.css');\nh1 { color: rgb(1, 2, 3) }\n")
	o.write("style/colors.css", "p { color: rgb(4, 5, 6) }\n")
	o.write("style/logo.svg", logo(20))
	env := append(os.Environ(), "XDG_STATE_HOME="+o.dir+"/.state", "XDG_RUNTIME_DIR=")
	o.run = func(words ...string) string {
		cmd := exec.Command(program, words...)
		cmd.Dir, cmd.Env = o.dir, env
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	o.run("start", "--background", "--trust")
	t.Cleanup(func() {
		o.run("stop", "--all")
		noneLeft(t, o.dir)
	})
	require.Contains(t, o.run("wait"), "CURRENT")
	return o
}

// write replaces a file in one step, as most editors do.
func (o *ticketOffice) write(name, text string) {
	o.t.Helper()
	file := filepath.Join(o.dir, name)
	require.NoError(o.t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(o.t, os.WriteFile(file+".new", []byte(text), 0o644))
	require.NoError(o.t, os.Rename(file+".new", file))
}

// browser is a page in a real browser.
type browser struct {
	t   *testing.T
	ctx context.Context
}

func openBrowser(t *testing.T) *browser {
	var program string
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome"} {
		if path, err := exec.LookPath(name); err == nil {
			program = path
			break
		}
	}
	if program == "" {
		t.Skip("chromium is not installed")
	}
	options := append(
		chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(program),
		chromedp.NoSandbox,
		chromedp.DisableGPU,
		chromedp.WSURLReadTimeout(patience),
		chromedp.UserDataDir(t.TempDir()),
	)
	allocator, stop := chromedp.NewExecAllocator(context.Background(), options...)
	ctx, closeContext := chromedp.NewContext(
		allocator,
		chromedp.WithErrorf(func(string, ...any) {}),
	) // it does not know everything that newer browsers report
	ctx, cancel := context.WithTimeout(ctx, 3*patience)
	t.Cleanup(func() { chromedp.Cancel(ctx); cancel(); closeContext(); stop() })
	return &browser{t, ctx}
}

func (b *browser) do(actions ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	for _, a := range actions {
		_, err := chromedp.Run(b.ctx, a)
		require.NoError(b.t, err)
	}
}

// says returns the value of an expression; empty while a page is loading.
func (b *browser) says(expression string) string {
	text, _ := chromedp.Run(b.ctx, chromedp.Evaluate[string]("String("+expression+")"))
	return text
}

// comesTo waits until an expression has a value.
func (b *browser) comesTo(expression, want string) {
	b.t.Helper()
	var got string
	require.True(
		b.t,
		holds(patience, func() bool { got = b.says(expression); return got == want }),
		"%s is %q, not %q",
		expression,
		got,
		want,
	)
}

const (
	headingColor = `getComputedStyle(document.getElementById("heading")).color`
	lineColor    = `getComputedStyle(document.getElementById("line")).color`
	typedName    = `document.getElementById("name")?.value`
)

// TestInTheBrowser checks relays as a user sees them: a style sheet is swapped while the form keeps its text, also
// one that another one imports; new code is shown when it is ready, with the scroll position and text kept; what is
// broken is shown, and the page comes back.
func TestInTheBrowser(t *testing.T) {
	t.Parallel()
	o, b := openTicketOffice(t), openBrowser(t)
	b.do(
		chromedp.Navigate(o.url+"/"),
		chromedp.SendKeys("#name", "Little Marram"),
		chromedp.SendKeys("#wish", "a berth by the window"),
	)
	require.True(
		t,
		holds(patience, func() bool { return strings.Contains(o.run("status", "--json"), `"pages":1`) }),
		"%s",
		o.run("status"),
	)
	b.comesTo(headingColor, "rgb(1, 2, 3)")
	b.comesTo(lineColor, "rgb(4, 5, 6)")
	b.do(chromedp.Evaluate[chromedp.Void](`window.sameDocument = true; scrollTo(0, 700)`))

	o.write("style/site.css", "@import url('/colors.css');\nh1 { color: rgb(7, 8, 9) }\n")
	b.comesTo(headingColor, "rgb(7, 8, 9)")
	o.write("style/colors.css", "p { color: rgb(10, 11, 12) }\n")
	b.comesTo(lineColor, "rgb(10, 11, 12)")
	b.comesTo("document.images[0].naturalWidth", "20")
	o.write("style/logo.svg", logo(30))
	b.comesTo("document.images[0].naturalWidth", "30")
	b.comesTo("window.sameDocument", "true")
	b.comesTo(typedName, "Little Marram")

	o.write("page.html", strings.ReplaceAll(officePage, "ferries", "tides"))
	b.comesTo("document.title", "tides")
	b.comesTo("window.sameDocument", "undefined")
	b.comesTo(typedName, "Little Marram")
	b.comesTo(`document.getElementById("wish").value`, "a berth by the window")
	b.comesTo("scrollY", "700")

	o.write("server.js", `throw new Error("no such harbour")`)
	o.run("wait")
	b.do(chromedp.Navigate(o.url + "/"))
	b.comesTo(`document.querySelector("h1 b")?.textContent`, "BROKEN")
	assert.Contains(t, b.says("document.body.innerText"), "no such harbour")
	o.write("server.js", officeServer)
	b.comesTo("document.title", "tides") // by itself

	// Under another name of this machine the same server answers.
	b.do(chromedp.Navigate(strings.Replace(o.url, "127.0.0.1", "localhost", 1) + "/"))
	b.comesTo("document.title", "tides")
}

// TestNoGetFails saves the server's code repeatedly while pages are requested all the time: OMNIVIGIL_SAVES times, 20
// by default. No request fails, and after each save the new page is served.
func TestNoGetFails(t *testing.T) {
	t.Parallel()
	o := openTicketOffice(t)
	saves := 20
	if n, err := strconv.Atoi(os.Getenv("OMNIVIGIL_SAVES")); err == nil {
		saves = n
	}
	stop := make(chan struct{})
	asked := 0
	var reader sync.WaitGroup
	reader.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
			}
			response, err := http.Get(o.url + "/")
			if !assert.NoError(t, err) {
				return
			}
			io.Copy(io.Discard, response.Body)
			response.Body.Close()
			if !assert.Equal(t, http.StatusOK, response.StatusCode) {
				return
			}
			asked++
		}
	})
	for n := range saves {
		title := fmt.Sprintf("save %d", n)
		o.write("page.html", strings.ReplaceAll(officePage, "ferries", title))
		require.Contains(t, o.run("wait"), "CURRENT")
		require.Contains(t, get(o.url+"/"), "<title>"+title+"</title>")
	}
	close(stop)
	reader.Wait()
	t.Logf("%d saves, %d pages asked for meanwhile, none failed", saves, asked)
}

// TestStyleIsSwappedSoon logs the time from a save until a browser has the new style.
func TestStyleIsSwappedSoon(t *testing.T) {
	o, b := openTicketOffice(t), openBrowser(t)
	b.do(chromedp.Navigate(o.url + "/"))
	b.comesTo(headingColor, "rgb(1, 2, 3)")
	require.True(t, holds(patience, func() bool { return strings.Contains(o.run("status", "--json"), `"pages":1`) }))
	var all []time.Duration
	for n := range 11 {
		want := fmt.Sprintf("rgb(%d, 0, 0)", 100+n)
		b.do(
			chromedp.Evaluate[chromedp.Void](
				fmt.Sprintf(
					`window.when = new Promise(done => { const look = () => %s === %q ? done(Date.now()) : `+
						`requestAnimationFrame(look); look(); }); 0`,
					headingColor,
					want,
				),
			),
		)
		began := time.Now()
		o.write("style/site.css", "h1 { color: "+want+" }\n")
		b.comesTo(headingColor, want)
		at, err := chromedp.Run(b.ctx, chromedp.Evaluate[float64]("window.when", chromedp.EvalAwaitPromise))
		require.NoError(t, err)
		all = append(all, time.UnixMilli(int64(at)).Sub(began))
	}
	t.Logf("from a save to the new style: %v", all)
}
