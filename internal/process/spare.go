package process

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"time"

	"omnivigil/internal/process/standby"
)

const (
	maxSpares  = 4
	spareDelay = 20 * time.Millisecond // until the start that took the last one has finished
)

// spares are processes that were started in advance for the next runs of units, on their terminals and in their
// directories, because a save waits for the start. They are in the order in which the units were last started.
type spares struct {
	all  []*spare
	none bool // there are none on this system, or there will be none anymore
}

// spare is a process that waits for the next run of a unit.
type spare struct {
	*standby.Process
	unit     string
	dir      string
	found    os.FileInfo // the directory, when the process was started in it
	terminal Terminal
	tty      *os.File // our side of the terminal
}

// close ends the process.
func (s *spare) close() {
	s.Close()
	s.tty.Close()
}

// takeSpare returns the process that was started in advance for such a run; nil: there is none. One for the same unit
// that does not fit is ended: the unit has another directory or terminal now, or the directory was replaced.
func (s *Spawner) takeSpare(spec Spec, dir os.FileInfo) *spare {
	i := slices.IndexFunc(s.spares.all, func(one *spare) bool { return one.unit == spec.Name })
	if i < 0 || !spec.Again || spec.Observe != nil {
		return nil
	}
	one := s.spares.all[i]
	s.dropSpare(one)
	if spec.Dir != one.dir || spec.Terminal != one.terminal || !os.SameFile(dir, one.found) {
		go one.close()
		return nil
	}
	return one
}

// launchSpare starts the command in a process that was started in advance; false: there is none, or it is gone.
func (s *Spawner) launchSpare(p *Process, path string, dir os.FileInfo) (launched bool, err error) {
	s.mu.Lock()
	one := s.takeSpare(p.spec, dir)
	if one == nil {
		s.mu.Unlock()
		return false, nil
	}
	p.cmd, p.tty, p.PID = one.Cmd, one.tty, one.Cmd.Process.Pid
	if err = resize(p.tty, p.spec.Cols, p.spec.Rows); err == nil {
		if err = one.Tell(path, p.spec.Argv, s.markedEnv(p)); err == nil {
			s.tracker.add(p)
		}
	}
	s.mu.Unlock()
	if err != nil {
		one.close()
		return false, nil
	}
	err = one.Executed()
	if err != nil {
		p.abandon()
	}
	switch {
	case errors.Is(err, standby.ErrGone):
		return false, nil
	case err != nil:
		return true, fmt.Errorf("run %s: %w", p.spec.Argv[0], err)
	}
	return true, nil
}

// prepareSpare starts a process for the next run of a unit, soon.
func (s *Spawner) prepareSpare(spec Spec) {
	if !spec.Again || spec.Observe != nil || spec.Terminal == NoTerminal {
		return
	}
	// Without what the callbacks hold.
	next := Spec{Name: spec.Name, Dir: spec.Dir, Cols: spec.Cols, Rows: spec.Rows, Terminal: spec.Terminal}
	time.AfterFunc(spareDelay, func() { s.startSpare(next) })
}

func (s *Spawner) startSpare(spec Spec) {
	s.mu.Lock()
	none := s.spares.none
	s.mu.Unlock()
	found, err := os.Stat(spec.Dir)
	if none || err != nil {
		return
	}
	one := &spare{unit: spec.Name, dir: spec.Dir, found: found, terminal: spec.Terminal}
	cmd := &exec.Cmd{Dir: spec.Dir}
	one.tty, err = s.terminals.start(cmd, spec, func() (err error) {
		one.Process, err = standby.Start(cmd, "omnivigil: waits for the next run of "+spec.Name)
		return err
	})
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case err != nil: // starts are only slower without it
		s.spares.none = s.spares.none || errors.Is(err, standby.ErrUnavailable)
	case s.spares.none:
		one.close()
	default:
		s.keepSpare(one)
	}
}

// keepSpare keeps a process, and ends the one that the unit had, or that of the unit that was started longest ago.
func (s *Spawner) keepSpare(one *spare) {
	if i := slices.IndexFunc(s.spares.all, func(other *spare) bool { return other.unit == one.unit }); i >= 0 {
		s.endSpare(s.spares.all[i])
	}
	s.spares.all = append(s.spares.all, one)
	s.tracker.expect(one.Cmd.Process.Pid, true)
	if len(s.spares.all) > maxSpares {
		s.endSpare(s.spares.all[0])
	}
}

func (s *Spawner) endSpare(one *spare) {
	s.dropSpare(one)
	go one.close()
}

func (s *Spawner) dropSpare(one *spare) {
	s.spares.all = slices.DeleteFunc(s.spares.all, func(other *spare) bool { return other == one })
	s.tracker.expect(one.Cmd.Process.Pid, false)
}

// Close ends the processes that were started in advance. Processes that run go on.
func (s *Spawner) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.spares.none = true
	for len(s.spares.all) > 0 {
		s.endSpare(s.spares.all[0])
	}
}
