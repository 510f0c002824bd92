package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// bigTree creates 10,000 directories with 100,000 files. OMNIVIGIL_BIG_TREE names a directory in which it is kept.
func bigTree(t testing.TB) string {
	root := os.Getenv("OMNIVIGIL_BIG_TREE")
	if root == "" {
		root = t.TempDir()
	} else if _, err := os.Stat(root); err == nil {
		return root
	}
	for n := range 10_000 {
		dir := fmt.Sprintf("%s/d%d/e%d/f%d", root, n/1000, n/100%10, n%100)
		require.NoError(t, os.MkdirAll(dir, 0o755))
		for f := range 10 {
			require.NoError(t, os.WriteFile(fmt.Sprintf("%s/f%d.go", dir, f), []byte("package f\n"), 0o644))
		}
	}
	unix.Sync()
	time.Sleep(10 * time.Second) // the disk is busy for a while, which would be measured, too
	return root
}

// median returns the median of several measurements.
func median(times []time.Duration) time.Duration {
	slices.Sort(times)
	return times[len(times)/2]
}

// BenchmarkSaveToFirstByte measures from a save in the big tree to the first byte of the new process: alternately
// Omnivigil with a debounce of 0, and a bare loop over inotify that kills and spawns.
func BenchmarkSaveToFirstByte(b *testing.B) {
	root := bigTree(b)
	fifo := filepath.Join(b.TempDir(), "born")
	require.NoError(b, syscall.Mkfifo(fifo, 0o600))
	born, err := os.OpenFile(fifo, os.O_RDWR, 0) // so that it never ends
	require.NoError(b, err)
	defer born.Close()
	command := "echo > " + fifo + "; exec sleep 1000"
	file := filepath.Join(root, "d3/e3/f3/f3.go")
	waitForByte := func() {
		var one [1]byte
		_, err := born.Read(one[:])
		require.NoError(b, err)
	}
	measure := func(times *[]time.Duration) {
		const rounds = 10
		for n := range rounds {
			time.Sleep(100 * time.Millisecond) // users pause between saves
			began := time.Now()
			overwrite(b, file, fmt.Sprintf("package f // %d\n", n))
			waitForByte()
			*times = append(*times, time.Since(began))
		}
	}
	settings := fmt.Sprintf(
		"[service.web]\nrun = %q\nwatch = [\"**/*.go\"]\ndebounce = \"0\"\nready = { after = \"1ms\" }\n",
		command,
	)
	var bare, ours []time.Duration
	began, stolen := time.Now(), stolenTime(b)
	for range 12 { // alternately, so that other load affects both
		stop := bareLoop(b, filepath.Dir(file), command)
		waitForByte()
		measure(&bare)
		stop()

		r := runIn(b, root, settings)
		waitForByte()
		r.says("web is ready", 1)
		measure(&ours)
		r.stop()
	}
	b.ReportMetric(float64(median(bare).Microseconds()), "bare-µs")
	b.ReportMetric(float64(median(ours).Microseconds()), "omnivigil-µs")
	b.ReportMetric(float64(median(ours))/float64(median(bare)), "ratio")
	b.ReportMetric(100*float64(stolenTime(b)-stolen)/float64(time.Since(began)), "%stolen")
}

// stolenTime is how long the processors of a virtual machine have waited for real ones (see proc(5), stat): a
// measurement with much of it means little.
func stolenTime(t testing.TB) time.Duration {
	stat, err := os.ReadFile("/proc/stat")
	require.NoError(t, err)
	steal, err := strconv.Atoi(strings.Fields(string(stat))[8])
	require.NoError(t, err)
	return time.Duration(steal) * 10 * time.Millisecond
}

// overwrite saves in place. A file that is truncated first may be sent to the disk when it is closed, which takes
// varying time.
func overwrite(t testing.TB, file, text string) {
	f, err := os.OpenFile(file, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString(text)
	require.NoError(t, err)
	require.NoError(t, f.Close())
}

// bareLoop runs the command again whenever a file in the directory has been written.
func bareLoop(t testing.TB, dir, command string) (stop func()) {
	fd, err := unix.InotifyInit1(unix.IN_CLOEXEC)
	require.NoError(t, err)
	_, err = unix.InotifyAddWatch(fd, dir, unix.IN_CLOSE_WRITE)
	require.NoError(t, err)
	spawn := func() *exec.Cmd {
		c := exec.Command("/bin/sh", "-c", command)
		c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		require.NoError(t, c.Start())
		return c
	}
	ending := make(chan struct{})
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		child := spawn()
		buffer := make([]byte, 4096)
		for {
			n, _ := unix.Read(fd, buffer)
			syscall.Kill(-child.Process.Pid, syscall.SIGTERM)
			child.Wait()
			select {
			case <-ending:
				return
			default:
			}
			if n <= 0 {
				return
			}
			child = spawn()
		}
	}()
	return func() {
		close(ending)
		os.WriteFile(filepath.Join(dir, "last"), nil, 0o644) // wakes it
		<-ended
		unix.Close(fd)
	}
}

// BenchmarkStart measures the time until the big tree is watched, alternately with find -type d.
func BenchmarkStart(b *testing.B) {
	root := bigTree(b)
	require.NoError(
		b,
		os.WriteFile(
			filepath.Join(root, "omnivigil.toml"),
			[]byte("[service.web]\nrun = \"sleep 1000\"\nwatch = [\"**/*.go\"]\n"),
			0o644,
		),
	)
	program := build(b)
	var finds, ours []time.Duration
	for range 7 {
		began := time.Now()
		require.NoError(b, exec.Command("find", root, "-type", "d").Run())
		finds = append(finds, time.Since(began))
		out, err := exec.Command(program, "check", "-C", root).Output()
		require.NoError(b, err)
		_, text, _ := strings.Cut(string(out), "ready in ")
		took, err := time.ParseDuration(strings.TrimSpace(text))
		require.NoError(b, err, "%s", out)
		ours = append(ours, took)
	}
	b.ReportMetric(float64(median(finds).Milliseconds()), "find-ms")
	b.ReportMetric(float64(median(ours).Milliseconds()), "omnivigil-ms")
	b.ReportMetric(float64(median(ours))/float64(median(finds)), "ratio")
}

// BenchmarkIdle measures what Omnivigil uses while nothing happens: 20 services, the big tree.
func BenchmarkIdle(b *testing.B) {
	root := bigTree(b)
	var settings strings.Builder
	for n := range 20 {
		fmt.Fprintf(&settings, "[service.s%d]\nrun = \"exec sleep 1000\"\nwatch = [\"d%d/**/*.go\"]\n", n, n/2)
	}
	r := runIn(b, root, settings.String())
	r.says("is ready", 20)
	pid := theSupervisor(r.cmd.Process.Pid)
	time.Sleep(35 * time.Second) // until no run is young
	const span = 20 * time.Second
	before := cpuTime(b, pid)
	time.Sleep(span)
	b.ReportMetric(100*float64(cpuTime(b, pid)-before)/float64(span), "%core")
	b.ReportMetric(resident(b, pid), "MB")
}

func cpuTime(t testing.TB, pid int) time.Duration {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	require.NoError(t, err)
	fields := strings.Fields(string(stat[strings.LastIndexByte(string(stat), ')')+1:]))
	user, _ := strconv.Atoi(fields[11])
	system, _ := strconv.Atoi(fields[12])
	return time.Duration(user+system) * 10 * time.Millisecond
}

func resident(t testing.TB, pid int) float64 {
	statm, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	require.NoError(t, err)
	pages, _ := strconv.Atoi(strings.Fields(string(statm))[1])
	return float64(pages*os.Getpagesize()) / 1e6
}

// BenchmarkBusyFile measures what Omnivigil uses while a service rewrites a file a thousand times a second: one that
// affects that service, another one, a tool that picks up changes by itself, all of them, or none.
func BenchmarkBusyFile(b *testing.B) {
	const writer = `run = ["perl", "-e", 'while(1){open F,">busy.txt"; print F rand; close F; select ` +
		`undef,undef,undef,0.0009}']` + "\n"
	const watch = "watch = [\"busy.txt\"]\n"
	const quiet = "[service.quiet]\nrun = \"exec sleep 1000\"\n"
	const tool = "[service.tool]\nrun = \"echo good; exec sleep 1000\"\npass = { good = \"good\", within = \"1s\" }\n"
	for name, settings := range map[string]string{
		"nobody": "[service.busy]\n" + writer,
		"itself": "[service.busy]\n" + writer + watch,
		"other":  "[service.busy]\n" + writer + quiet + watch,
		"tool":   "[service.busy]\n" + writer + tool + watch,
		"all":    "[service.busy]\n" + writer + watch + quiet + watch + tool + watch,
	} {
		b.Run(name, func(b *testing.B) {
			r := runIn(b, b.TempDir(), settings)
			r.says("is ready", 1)
			time.Sleep(12 * time.Second) // until loops have been stopped
			pid, span := theSupervisor(r.cmd.Process.Pid), 10*time.Second
			before := cpuTime(b, pid)
			time.Sleep(span)
			b.ReportMetric(100*float64(cpuTime(b, pid)-before)/float64(span), "%core")
			r.stop()
		})
	}
}

// BenchmarkDay saves a thousand times and edits an env file with a secret three hundred times, faster than a user
// would, and reports the memory, which should not grow.
func BenchmarkDay(b *testing.B) {
	r := runIn(b, b.TempDir(), `
[project]
env_files = [".env"]
secret = ["*_TOKEN"]
[service.api]
run = "setsid sleep 1000 & exec sleep 1000"
watch = ["*.go"]
debounce = "10ms"
ready = { after = "10ms" }
`)
	r.says("api is ready", 1)
	pid := theSupervisor(r.cmd.Process.Pid)
	b.ReportMetric(resident(b, pid), "MB-at-first")
	const pause = 100 * time.Millisecond
	for i := range 1000 {
		r.write("a.go", fmt.Sprint(i))
		time.Sleep(pause)
	}
	b.ReportMetric(resident(b, pid), "MB-after-saves")
	for i := range 300 {
		r.write(".env", fmt.Sprintf("A_TOKEN=one-secret-value-%d\n", i%7))
		time.Sleep(2 * pause)
	}
	b.ReportMetric(resident(b, pid), "MB-after-edits")
	b.ReportMetric(0, "ns/op")
}
