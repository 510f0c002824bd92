package e2e

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/require"
)

const writers = 20

// linesOfEach is how many lines each of the writers has; 500,000 with OMNIVIGIL_LINES=10000000.
func linesOfEach() int {
	if n, err := strconv.Atoi(os.Getenv("OMNIVIGIL_LINES")); err == nil {
		return n / writers
	}
	return 100_000
}

// texts are lines of ten kinds that programs write, with ######## for a number. Most look like findings at first
// glance.
var texts = []struct{ name, text string }{
	{"plain", "######## high water at the third berth"},
	{"words", "w07 line ######## of the harbour log"},
	{"levels", "2030-05-04 12:04:31.123 INFO  tides: request ######## from 127.0.0.1:4102"},
	{"errors", "2030-05-04 12:04:31.123 ERROR pump: error: valve ######## failed: connection refused"},
	{"error first", "error: berth ######## is taken"},
	{"JSON", `{"time":"2030-05-04T12:04:31.123Z","level":"INFO","msg":"moored","berth":########,"from":"10.0.0.7:80"}`},
	{"paths", "cmd/berths/main.go:12: request ######## served in 3 ms"},
	{"addresses", "GET http://tides.example:8080/berths/########?from=web.example:443 HTTP/1.1 200 12ms"},
	{"colors", "\x1b[32mINFO\x1b[0m \x1b[1mtides\x1b[0m: ######## vessels at \x1b[36mberth:3\x1b[0m"},
	{"letters", "Flut ########: Über den Prielen 潮汐 — 3 m, Ebbe ↓"},
}

// lineByLine writes numbered lines as programs do to a terminal, one write each; inBlocks as much at a time as the
// terminal accepts, which hardly any program does.
func lineByLine(text string) []string {
	return []string{"seq", "-f", strings.Replace(text, "########", "%08.0f", 1), "0", strconv.Itoa(linesOfEach() - 1)}
}
func inBlocks() []string { return []string{"cat", "numbered"} }

// writersOf makes a project of tasks that write as fast as they can, and returns its directory and the settings.
func writersOf(t testing.TB, secrets int, words []string) (dir, settings string) {
	dir = t.TempDir()
	var text bytes.Buffer
	for i := range linesOfEach() {
		fmt.Fprintf(&text, "%08d high water at the third berth\n", i)
	}
	require.NoError(t, os.WriteFile(dir+"/numbered", text.Bytes(), 0o600))
	run, err := json.Marshal(words)
	require.NoError(t, err)
	var b strings.Builder
	fmt.Fprintf(&b, "[project]\njobs = %d\nsecret = [\"KEY*\"]\n", writers)
	if secrets > 0 {
		b.WriteString("[defaults]\nenv = {")
		for i := range secrets {
			fmt.Fprintf(&b, " KEY%d = \"low-water-springs-%d-%d\",", i, i, i*7919)
		}
		b.WriteString(" }\n")
	}
	for i := range writers {
		fmt.Fprintf(&b, "[task.w%02d]\nrun = %s\n", i, run)
	}
	return dir, b.String()
}

// bareReaders reads as many pseudo-terminals into files and returns the duration.
func bareReaders(t testing.TB, dir string, words []string) time.Duration {
	began := time.Now()
	var all sync.WaitGroup
	for i := range writers {
		cmd := exec.Command(words[0], words[1:]...)
		cmd.Dir = dir
		tty, err := pty.Start(cmd)
		require.NoError(t, err)
		out, err := os.Create(fmt.Sprintf("%s/bare-%d", dir, i))
		require.NoError(t, err)
		all.Go(func() {
			io.CopyBuffer(struct{ io.Writer }{out}, struct{ io.Reader }{tty}, make([]byte, 64<<10))
			cmd.Wait()
			tty.Close()
			out.Close()
		})
	}
	all.Wait()
	return time.Since(began)
}

// cpuOf returns the CPU time of a process.
func cpuOf(pid int) time.Duration {
	stat, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	_, rest, _ := strings.Cut(string(stat), ") ")
	fields := strings.Fields(rest)
	if len(fields) < 13 {
		return 0
	}
	user, _ := strconv.Atoi(fields[11])
	system, _ := strconv.Atoi(fields[12])
	return time.Duration(user+system) * (time.Second / 100)
}

// sizeOf is the size of files in bytes.
func sizeOf(pattern string) (n int64) {
	files, _ := filepath.Glob(pattern)
	for _, f := range files {
		if info, err := os.Stat(f); err == nil {
			n += info.Size()
		}
	}
	return n
}

// allInOrder requires that each writer's lines were printed, in order. The first eight digits of a line are its number.
func allInOrder(t testing.TB, file string) {
	in, err := os.Open(file)
	require.NoError(t, err)
	defer in.Close()
	next := map[string]int{}
	for lines := bufio.NewScanner(in); lines.Scan(); {
		words := strings.Fields(lines.Text())
		number := eightDigits.FindString(lines.Text())
		if len(words) < 3 || words[1] == "omnivigil" || number == "" {
			continue
		}
		n, err := strconv.Atoi(number)
		require.NoError(t, err)
		require.Equal(t, next[words[1]], n, "of %s: %s", words[1], lines.Text())
		next[words[1]]++
	}
	require.Len(t, next, writers)
	for name, n := range next {
		require.Equal(t, linesOfEach(), n, "of %s", name)
	}
}

var eightDigits = regexp.MustCompile(`\d{8}`)

// BenchmarkOutput has 20 tasks write as fast as they can, alternately with a loop that reads as many terminals into
// files: ten kinds of text with the plain stream into a file, and one of them with the full screen, with 20 secrets to
// mask, and in blocks.
func BenchmarkOutput(b *testing.B) {
	build(b)
	type through func(b *testing.B, dir, settings string) (took, cpu time.Duration, log float64)
	type measured struct {
		name    string
		secrets int
		words   []string
		through through
	}
	var tests []measured
	for _, kind := range texts {
		tests = append(tests, measured{kind.name, 0, lineByLine(kind.text), throughPlain})
	}
	plain := lineByLine(texts[0].text)
	tests = append(tests,
		measured{"full screen", 0, plain, throughScreen},
		measured{"20 secrets", 20, plain, throughPlain},
		measured{"in blocks", 0, inBlocks(), throughPlain})
	for _, test := range tests {
		b.Run(test.name, func(b *testing.B) {
			dir, settings := writersOf(b, test.secrets, test.words)
			var bare, ours, cpu time.Duration
			var log float64
			for b.Loop() {
				bare += bareReaders(b, dir, test.words)
				o, c, l := test.through(b, dir, settings)
				ours, cpu, log = ours+o, cpu+c, l
			}
			lines := float64(b.N * writers * linesOfEach())
			b.ReportMetric(bare.Seconds()/float64(b.N), "bare-s")
			b.ReportMetric(ours.Seconds()/float64(b.N), "ours-s")
			b.ReportMetric(float64(ours)/float64(bare), "times-bare")
			b.ReportMetric(float64(cpu.Microseconds())/lines, "cpu-µs/line")
			b.ReportMetric(log, "log/printed")
		})
	}
}

// throughPlain runs the project with --plain into a file. It returns the time from the first writer's start to the
// last line printed, within 20 ms, the supervisor's own CPU time, and the size of the log compared with what was
// printed.
func throughPlain(b *testing.B, dir, settings string) (took, cpu time.Duration, log float64) {
	state := b.TempDir()
	require.NoError(b, os.WriteFile(dir+"/omnivigil.toml", []byte(settings), 0o600))
	out, err := os.Create(dir + "/printed")
	require.NoError(b, err)
	defer out.Close()
	cmd := exec.Command(build(b), "start", "--plain", "--trust")
	cmd.Dir, cmd.Stdout, cmd.Stderr = dir, out, os.Stderr
	cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+state)
	began := time.Now()
	require.NoError(b, cmd.Start())
	supervisor := 0
	require.True(b, holds(10*time.Minute, func() bool {
		if supervisor == 0 {
			supervisor = theSupervisor(cmd.Process.Pid)
		}
		tail := make([]byte, 4096)
		info, _ := out.Stat()
		if info.Size() == 0 {
			began = time.Now()
		}
		n, _ := out.ReadAt(tail, max(info.Size()-4096, 0))
		return bytes.Contains(tail[:n], []byte("current after"))
	}))
	took, cpu = time.Since(began), cpuOf(supervisor)
	require.NoError(b, cmd.Process.Signal(syscall.SIGTERM))
	cmd.Wait()
	log = float64(sizeOf(state+"/omnivigil/logs/*/*/0*")) / float64(sizeOf(dir+"/printed"))
	allInOrder(b, dir+"/printed")
	return took, cpu, log
}

// throughScreen runs the project on a full screen. It returns the time from the first writer's start to the last
// one's end, the supervisor's own CPU time, and the size of the log compared with what the plain stream would have
// printed.
func throughScreen(b *testing.B, dir, settings string) (took, cpu time.Duration, log float64) {
	p := &background{b, dir}
	require.NoError(b, os.RemoveAll(dir+"/state"))
	p.write("omnivigil.toml", settings)
	cmd := p.command("start", "--trust")
	s := onTerminal(b, cmd)
	defer s.terminal.Close()
	s.until(b, "UPDATING")
	supervisor := theSupervisor(cmd.Process.Pid)
	_, code := p.run("wait")
	require.Zero(b, code)
	first := p.status().Ripples[0]
	cpu = cpuOf(supervisor)
	s.terminal.WriteString("qq")
	s.until(b, "\x1b[?1049l")
	cmd.Wait()
	text := dir + "/state/omnivigil/logs/*/*/0*.log"
	files, _ := filepath.Glob(text)
	var all bytes.Buffer
	for _, f := range files {
		data, err := os.ReadFile(f)
		require.NoError(b, err)
		all.Write(data)
	}
	require.NoError(b, os.WriteFile(dir+"/printed", all.Bytes(), 0o600))
	allInOrder(b, dir+"/printed")
	return first.RestAt.Sub(first.Since), cpu, float64(sizeOf(strings.TrimSuffix(text, ".log"))) / float64(all.Len())
}
