//go:build linux && (amd64 || arm64)

package observe

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// timed runs a shell command, under observation or not, and returns how long it took, or how long use took if that is
// set: the command is a server then, which is killed afterwards.
func timed(b *testing.B, dir, script string, observe bool, use func()) time.Duration {
	cmd := exec.Command("/bin/sh", "-c", script)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "GOCACHE="+b.TempDir(), "PORT=41737")
	began := time.Now()
	if observe {
		o, err := Prepare(cmd)
		require.NoError(b, err)
		require.NoError(b, cmd.Start())
		require.NoError(b, o.Attach(NewLog(dir, nil)))
	} else {
		require.NoError(b, cmd.Start())
	}
	if use != nil {
		defer cmd.Wait()
		defer cmd.Process.Kill()
		require.Eventually(b, func() bool {
			r, err := http.Get("http://127.0.0.1:41737/")
			if err == nil {
				r.Body.Close()
			}
			return err == nil
		}, 20*time.Second, 10*time.Millisecond)
		began = time.Now()
		use()
		return time.Since(began)
	}
	require.NoError(b, cmd.Wait())
	return time.Since(began)
}

// BenchmarkCost measures how much longer commands take under observation, alternately with and without it: a cold build
// of this project, an installation of packages, and requests to a server. The metric "ratio" is that of the sums.
func BenchmarkCost(b *testing.B) {
	top, err := filepath.Abs("../../..")
	require.NoError(b, err)
	for _, c := range []struct {
		name, needs string
		files       map[string]string
		dir         string
		run         string
		use         func()
	}{
		{name: "build", needs: "go", dir: top, run: "go build -o /dev/null ./cmd/omnivigil"},
		{name: "install", needs: "npm", run: "npm ci --no-audit --no-fund --prefer-offline --silent >/dev/null",
			files: map[string]string{"package.json": `{"name": "quay", "version": "1.0.0", "dependencies":
				{"express": "4.21.2", "typescript": "5.8.3", "eslint": "9.25.0", "webpack": "5.99.6"}}`}},
		{name: "server", needs: "node", run: "exec node server.js", use: func() {
			for range 20_000 {
				if r, err := http.Get("http://127.0.0.1:41737/"); err == nil {
					io.Copy(io.Discard, r.Body)
					r.Body.Close()
				}
			}
		}, files: map[string]string{"server.js": `
			const text = 'low tide\n'.repeat(100)
			require('http').createServer((_, to) => to.end(text)).listen(process.env.PORT)`}},
	} {
		b.Run(c.name, func(b *testing.B) {
			for _, program := range strings.Fields(c.needs) {
				if _, err := exec.LookPath(program); err != nil {
					b.Skip(program + " is not installed")
				}
			}
			dir := c.dir
			if dir == "" {
				dir = b.TempDir()
			}
			for name, text := range c.files {
				require.NoError(b, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
			}
			if c.needs == "npm" {
				timed(b, dir, "npm install --no-audit --no-fund --silent", false, nil)
			}
			var sums [2]time.Duration
			for b.Loop() {
				sums[0] += timed(b, dir, c.run, false, c.use)
				sums[1] += timed(b, dir, c.run, true, c.use)
			}
			b.ReportMetric(sums[1].Seconds()/sums[0].Seconds(), "ratio")
			b.Log(fmt.Sprint(c.name, sums))
		})
	}
}

// BenchmarkStart starts a process and waits for its end, under observation and without.
func BenchmarkStart(b *testing.B) {
	for name, observe := range map[string]bool{"plain": false, "observed": true} {
		b.Run(name, func(b *testing.B) {
			dir := b.TempDir()
			for b.Loop() {
				timed(b, dir, "exit 0", observe, nil)
			}
		})
	}
}
