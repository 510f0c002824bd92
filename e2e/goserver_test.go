package e2e

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

const serverMain = `package main

import (
	"fmt"
	"net/http"
	"os"

	"harbour/greeting"
)

func main() {
	http.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, greeting.Text, os.Getpid()) })
	fmt.Println("listening")
	panic(http.ListenAndServe("127.0.0.1:"+os.Getenv("PORT"), nil))
}
`

// safeBuffer is a buffer that a process writes and a test reads.
type safeBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *safeBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *safeBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

// TestRealGoServer saves a package that a server under "go run" imports, ten times, and sees the new behavior each
// time. "go run" starts the server as its child; leaving must end that, too.
func TestRealGoServer(t *testing.T) {
	t.Parallel()
	program, dir := build(t), t.TempDir()
	port := freePorts(1)[0]
	write := func(name, text string) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	greet := func(n int) {
		write("greeting/text.go", fmt.Sprintf("package greeting\n\nconst Text = \"greeting %d\"\n", n))
	}
	write("go.mod", "module harbour\n\ngo 1.24\n")
	write("main.go", serverMain)
	greet(0)
	write("omnivigil.toml", fmt.Sprintf(`
[service.web]
run = "go run ."
env = { PORT = "%d" }
ready = { http = "http://127.0.0.1:%d/" }
watch = ["**/*.go"]
`, port, port))

	var out safeBuffer
	cmd := exec.Command(program, "start", "--plain", "--trust")
	cmd.Dir, cmd.Stdout, cmd.Stderr = dir, &out, &out
	cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+dir+"/state")
	require.NoError(t, cmd.Start())
	defer cmd.Process.Kill()

	url := fmt.Sprintf("http://127.0.0.1:%d/", port)
	answers(t, url, "^greeting 0 ")
	for n := 1; n <= 10; n++ {
		greet(n)
		answers(t, url, fmt.Sprintf("^greeting %d ", n))
		require.Eventually(t, func() bool {
			return bytes.Contains([]byte(out.String()), fmt.Appendf(nil, "ripple %d: current", n+1))
		}, patience, 10*time.Millisecond, out.String())
	}
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	err := cmd.Wait()
	require.Equal(t, 130, cmd.ProcessState.ExitCode(), "%v\n%s", err, &out)
	noneLeft(t, dir)
	require.Contains(t, get(url), "refused")
}
