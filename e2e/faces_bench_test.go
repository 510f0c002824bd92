package e2e

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/api/client"
	"omnivigil/internal/api/socket"
)

// shownOn is a full screen in a terminal that is read as fast as it is written.
type shownOn struct {
	terminal *os.File
	mu       sync.Mutex
	text     []byte
	grown    chan struct{}
}

func onTerminal(b testing.TB, cmd *exec.Cmd) *shownOn {
	b.Helper()
	cmd.Env = append(cmd.Env, "TERM=xterm-256color", "COLORTERM=truecolor")
	terminal, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 46, Cols: 158})
	require.NoError(b, err)
	s := &shownOn{terminal: terminal, grown: make(chan struct{}, 1)}
	go func() {
		buffer := make([]byte, 64<<10)
		for {
			n, err := terminal.Read(buffer)
			if err != nil {
				return
			}
			s.mu.Lock()
			s.text = append(s.text, buffer[:n]...)
			s.mu.Unlock()
			select {
			case s.grown <- struct{}{}:
			default:
			}
		}
	}()
	return s
}

// until waits until a text has been written to the terminal, since the last time.
func (s *shownOn) until(b testing.TB, text string) {
	b.Helper()
	for limit := time.After(patience); ; {
		s.mu.Lock()
		i := bytes.Index(s.text, []byte(text))
		if i >= 0 {
			s.text = s.text[:0]
		}
		s.mu.Unlock()
		if i >= 0 {
			return
		}
		select {
		case <-s.grown:
		case <-limit:
			b.Fatalf("never shown: %q", text)
		}
	}
}

func milliseconds(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// BenchmarkFirstFrame measures from the command to the first frame with the lanes, of a project that it starts and of
// one that is running; and for comparison, what the program takes to do nothing.
func BenchmarkFirstFrame(b *testing.B) {
	p := &background{b, b.TempDir()}
	p.write("omnivigil.toml", demoLike)
	out, code := p.run("check")
	require.Equal(b, 0, code, out)
	var started, attached, bare []time.Duration
	frame := func(words ...string) time.Duration {
		began := time.Now()
		s := onTerminal(b, p.command(words...))
		s.until(b, "berths")
		took := time.Since(began)
		defer s.terminal.Close()
		if words[0] == "attach" {
			s.terminal.WriteString("q\r")
		} else {
			s.terminal.WriteString("qq")
		}
		s.until(b, "\x1b[?1049l")
		return took
	}
	for range 11 {
		began := time.Now()
		p.run("--version")
		bare = append(bare, time.Since(began))
		started = append(started, frame("start", "--trust"))
		require.Eventually(
			b,
			func() bool { _, code := p.run("status"); return code == 2 },
			patience,
			5*time.Millisecond,
		)
	}
	out, code = p.run("start", "--background", "--trust")
	require.Equal(b, 0, code, out)
	for range 11 {
		attached = append(attached, frame("attach"))
	}
	p.run("stop", "--all")
	b.ReportMetric(milliseconds(median(bare)), "version-ms")
	b.ReportMetric(milliseconds(median(started)), "start-ms")
	b.ReportMetric(milliseconds(slices.Max(started)), "start-worst-ms")
	b.ReportMetric(milliseconds(median(attached)), "attach-ms")
	b.ReportMetric(0, "ns/op")
}

const demoLike = `
[service.tides]
run = "exec sleep 1000"
[service.berths]
run = "exec sleep 1000"
needs = ["tides"]
[service.tickets]
run = "exec sleep 1000"
[task.fares]
run = "true"
`

// BenchmarkKeys measures from a key to its effect, while four or twenty units write as fast as they can; and for
// comparison, a bare program that echoes what it reads.
func BenchmarkKeys(b *testing.B) {
	for _, writers := range []int{4, 20} {
		b.Run(fmt.Sprintf("%d writers", writers), func(b *testing.B) { benchmarkKeys(b, writers) })
	}
}

func benchmarkKeys(b *testing.B, writers int) {
	p := &background{b, b.TempDir()}
	settings := ""
	for n := range writers {
		settings += fmt.Sprintf(
			"[service.writer%d]\nrun = \"exec yes 'a line of the tide table, as long as most are'\"\n",
			n,
		)
	}
	p.write("omnivigil.toml", settings)
	s := onTerminal(b, p.command("start", "--trust"))
	defer s.terminal.Close()
	s.until(b, "CURRENT")
	echo := onTerminal(b, exec.Command("cat"))
	defer echo.terminal.Close()
	var took, bare []time.Duration
	for n := range 30 {
		time.Sleep(100 * time.Millisecond)
		began := time.Now()
		fmt.Fprintf(echo.terminal, "key %d\n", n)
		echo.until(b, fmt.Sprintf("key %d\r\nkey %d", n, n))
		bare = append(bare, time.Since(began))
		for _, shows := range []string{"previous unit", "all output"} {
			began := time.Now()
			s.terminal.WriteString("?")
			s.until(b, shows)
			took = append(took, time.Since(began))
		}
	}
	s.terminal.WriteString("qq")
	s.until(b, "\x1b[?1049l")
	slices.Sort(took)
	slices.Sort(bare)
	b.ReportMetric(milliseconds(bare[len(bare)*95/100]), "bare-p95-ms")
	b.ReportMetric(milliseconds(median(took)), "median-ms")
	b.ReportMetric(milliseconds(took[len(took)*95/100]), "p95-ms")
	b.ReportMetric(milliseconds(took[len(took)-1]), "worst-ms")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkFaces measures through the socket from a request to its answer, and to the snapshot that shows its effect;
// and what the supervisor uses of a core while a unit writes a thousand lines a second and no face, one or ten
// follow.
func BenchmarkFaces(b *testing.B) {
	p := &background{b, b.TempDir()}
	p.write(
		"omnivigil.toml",
		"[service.tides]\nrun = [\"perl\", \"-e\", '$|=1; while(1){print \"tide $i\\n\"; $i++; select "+
			"undef,undef,undef,0.0009}']\n"+demoLike[len("\n[service.tides]\nrun = \"exec sleep 1000\"\n"):],
	)
	out, code := p.run("start", "--background", "--trust")
	require.Equal(b, 0, code, out)
	defer p.run("stop", "--all")
	place, err := socket.PlaceOf(p.dir+"/omnivigil.toml", "", p.dir+"/state/omnivigil", p.t.TempDir())
	require.NoError(b, err)
	ctx, stop := context.WithCancel(b.Context())
	defer stop()
	project, err := client.Connect(ctx, place)
	require.NoError(b, err)

	changes := make(chan bool, 1000)
	go project.Follow(ctx, api.Face{Kind: "bench"}, func(s *api.Snapshot) error {
		changes <- s.Paused
		return nil
	})
	var answered, seen []time.Duration
	for n := range 200 {
		action := []api.Action{api.Pause, api.Resume}[n%2]
		time.Sleep(time.Duration(40+rand.IntN(60)) * time.Millisecond) // at any moment between two frames
		began := time.Now()
		_, err := project.Do(ctx, api.Request{Action: action})
		require.NoError(b, err)
		answered = append(answered, time.Since(began))
		for <-changes != (action == api.Pause) {
		}
		seen = append(seen, time.Since(began))
	}
	b.ReportMetric(milliseconds(median(answered)), "answer-ms")
	b.ReportMetric(milliseconds(median(seen)), "seen-ms")

	snap, err := project.Snapshot(ctx)
	require.NoError(b, err)
	stop()
	for _, faces := range []int{0, 1, 10} {
		ctx, stop := context.WithCancel(b.Context())
		for range faces {
			face, err := client.Connect(ctx, place)
			require.NoError(b, err)
			go api.FollowLines(ctx, face, api.LineQuery{Last: true}, func([]api.Line) error { return nil })
		}
		time.Sleep(time.Second)
		const span = 5 * time.Second
		before := cpuTime(b, snap.Project.Supervisor)
		time.Sleep(span)
		b.ReportMetric(
			100*float64(cpuTime(b, snap.Project.Supervisor)-before)/float64(span),
			fmt.Sprintf("%%core-%d-faces", faces),
		)
		stop()
	}
	b.ReportMetric(0, "ns/op")
}

// BenchmarkTyping measures the cost of typing into a program that draws 60 times a second: a gauge that rewrites
// eight rows, and one that rewrites the whole screen; for the supervisor and the face, in parts of one core.
func BenchmarkTyping(b *testing.B) {
	for _, rows := range []int{8, 43} {
		b.Run(fmt.Sprintf("%d rows", rows), func(b *testing.B) {
			p := &background{b, b.TempDir()}
			p.write("omnivigil.toml", fmt.Sprintf("[service.gauge]\nrun = ['perl', 'gauge.pl', '%d']\n", rows))
			p.write("gauge.pl", `$| = 1; my $rows = shift; my $n = 0;
print "\e[?1049h\e[?25l\e[2J";
while (1) {
  my $frame = "\e[?2026h";
  for my $row (1 .. $rows) { $frame .= sprintf("\e[%d;1H\e[3%dm%s\e[m %d", $row, 1 + $row % 7, "tide " x 28, $n) }
  print $frame, "\e[?2026l"; $n++;
  select(undef, undef, undef, 1 / 60);
}`)
			face := p.command("start", "--trust")
			s := onTerminal(b, face)
			s.until(b, "draws") // it is told that run 1 draws a full screen
			s.terminal.WriteString("h")
			s.until(b, "f12")
			pids := map[string]int{"supervisor": p.status().Project.Supervisor, "face": face.Process.Pid}
			for b.Loop() {
				reportUse(b, pids, 10*time.Second)
			}
			require.NoError(b, p.command("stop", "--all").Run())
			face.Wait()
		})
	}
}

// reportUse reports what processes use in a span of time: the share of a core, and how often their threads wake up.
func reportUse(b *testing.B, pids map[string]int, span time.Duration) {
	cpu, wakes := map[string]time.Duration{}, map[string]int{}
	for name, pid := range pids {
		cpu[name], wakes[name] = cpuTime(b, pid), wakeUps(b, pid)
	}
	time.Sleep(span)
	for name, pid := range pids {
		b.ReportMetric(100*(cpuTime(b, pid)-cpu[name]).Seconds()/span.Seconds(), "%core-"+name)
		b.ReportMetric(float64(wakeUps(b, pid)-wakes[name])/span.Seconds(), "wakes/s-"+name)
	}
}

// wakeUps is how often the threads of a process have gone to sleep (see proc(5), status), and so have woken up.
func wakeUps(t testing.TB, pid int) (n int) {
	threads, err := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/status", pid))
	require.NoError(t, err)
	for _, file := range threads {
		status, _ := os.ReadFile(file)
		_, rest, _ := strings.Cut(string(status), "\nvoluntary_ctxt_switches:")
		line, _, _ := strings.Cut(rest, "\n")
		count, _ := strconv.Atoi(strings.TrimSpace(line))
		n += count
	}
	return n
}

// BenchmarkIdleScreen measures what the full screen and the supervisor of twenty services use when nothing has happened
// for a while.
func BenchmarkIdleScreen(b *testing.B) {
	p := &background{b, b.TempDir()}
	var settings strings.Builder
	for n := range 20 {
		fmt.Fprintf(&settings, "[service.s%d]\nrun = \"exec sleep 1000\"\nwatch = [\"d%d/**\"]\n", n, n)
	}
	p.write("omnivigil.toml", settings.String())
	face := p.command("start", "--trust")
	s := onTerminal(b, face)
	s.until(b, "s19")
	time.Sleep(90 * time.Second) // until no run is young, and no time is shown in seconds
	pids := map[string]int{"supervisor": p.status().Project.Supervisor, "face": face.Process.Pid}
	for b.Loop() {
		reportUse(b, pids, 30*time.Second)
	}
	require.NoError(b, p.command("stop", "--all").Run())
	face.Wait()
}

// BenchmarkTypingEcho measures from a key to its echo by a program that is typed into.
func BenchmarkTypingEcho(b *testing.B) {
	p := &background{b, b.TempDir()}
	p.write("omnivigil.toml", "[service.console]\nrun = \"exec cat\"\n")
	face := p.command("start", "--trust")
	s := onTerminal(b, face)
	s.until(b, "console")
	s.terminal.WriteString("h")
	s.until(b, "f12")
	var took []time.Duration
	for range 60 {
		for _, key := range "QXZ" {
			time.Sleep(50 * time.Millisecond) // the speed of typing
			began := time.Now()
			s.terminal.WriteString(string(key))
			s.until(b, string(key))
			took = append(took, time.Since(began))
		}
		s.terminal.WriteString("\x15") // clears the line
	}
	slices.Sort(took)
	b.ReportMetric(milliseconds(took[len(took)/2]), "ms-median")
	b.ReportMetric(milliseconds(took[len(took)*95/100]), "ms-95%")
	require.NoError(b, p.command("stop", "--all").Run())
	face.Wait()
}
