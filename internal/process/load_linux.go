package process

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
)

// Load returns the load average of the last minute, and how many threads of other programs are running or could run at
// this moment; false: the system does not tell. With counted, threads of this program and of its runs are looked at,
// to leave them out; otherwise the number is 0. See proc(5), /proc/loadavg and /proc/PID/stat.
func (s *Spawner) Load(counted bool) (average float64, others int, ok bool) {
	text, err := os.ReadFile("/proc/loadavg")
	if err != nil {
		return 0, 0, false
	}
	var five, fifteen float64
	if _, err := fmt.Sscanf(string(text), "%f %f %f %d/", &average, &five, &fifteen, &others); err != nil {
		return 0, 0, false
	}
	if !counted {
		return average, 0, true
	}
	s.mu.Lock()
	pids := []int{os.Getpid()}
	for _, members := range s.tracker.members() {
		for _, m := range members {
			pids = append(pids, m.pid)
		}
	}
	s.mu.Unlock()
	for _, pid := range pids {
		others -= runnable(pid)
	}
	return average, max(others, 0), true
}

// runnable is how many threads of a process are running or could run.
func runnable(pid int) (n int) {
	tasks := filepath.Join("/proc", strconv.Itoa(pid), "task")
	entries, err := os.ReadDir(tasks)
	if err != nil {
		return 0 // it has ended
	}
	for _, e := range entries {
		stat, err := os.ReadFile(filepath.Join(tasks, e.Name(), "stat"))
		if at := bytes.LastIndexByte(stat, ')'); err == nil && at >= 0 && at+2 < len(stat) && stat[at+2] == 'R' {
			n++
		}
	}
	return n
}
