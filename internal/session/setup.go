package session

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
	"omnivigil/internal/spawn"
	"omnivigil/internal/watch"
)

// A setup step is done while its command, its folder, the unit's environment and
// the contents of its inputs are what they were when it last ended well. A digest
// of these is kept in the state folder, one file for each step.

// digest returns what a step's result depends on, as a hash.
func digest(p *plan.Plan, u *plan.Unit, step plan.Step) (string, error) {
	h := sha256.New()
	fmt.Fprintf(h, "%q %q %q\n", step.Run.Argv(), u.Dir, u.Env)
	var patterns []string
	for _, in := range step.Inputs {
		patterns = append(patterns, in.Text)
	}
	for _, file := range watch.Files(p.Root, patterns) {
		fmt.Fprintf(h, "%q\n", file)
		if err := addFile(h, file); err != nil {
			return "", err
		}
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

func addFile(h io.Writer, file string) error {
	f, err := os.Open(file)
	if err != nil {
		return fmt.Errorf("read the input %s: %w", file, err)
	}
	defer f.Close()
	_, err = io.Copy(h, f)
	return err
}

// stampFile is where a step's digest is kept.
func (s *Session) stampFile(u *plan.Unit, i int) string {
	h := sha256.Sum256(fmt.Appendf(nil, "%q %q %d", s.root, u.Name, i))
	return filepath.Join(s.state, "setup", hex.EncodeToString(h[:16]))
}

// prepare runs what comes before the unit's own command, and then that. It reports
// to the engine how it went.
func (r *liveRun) prepare(s *Session, o engine.Start) {
	for i, step := range r.unit.Setup {
		sum, err := digest(s.Plan(), r.unit, step)
		if err != nil {
			s.send(engine.NotSpawned{Unit: o.Unit, Run: o.Run, Problem: err.Error()})
			return
		}
		stamp := s.stampFile(r.unit, i)
		if done, _ := os.ReadFile(stamp); string(done) == sum {
			continue
		}
		if !r.step(s, o, "setup", step) {
			return
		}
		if err := os.MkdirAll(filepath.Dir(stamp), 0o700); err == nil {
			err = os.WriteFile(stamp, []byte(sum), 0o600)
			if err != nil {
				s.Note("a setup step will be repeated next time: " + err.Error())
			}
		}
	}
	for _, step := range r.unit.Prelude {
		if !r.step(s, o, "prelude", step) {
			return
		}
	}
	s.spawnRun(r, o)
}

// step runs one step to its end and reports whether it went well. If not, the
// engine has been told.
func (r *liveRun) step(s *Session, o engine.Start, kind string, step plan.Step) bool {
	s.send(engine.SettingUp{Unit: o.Unit, Run: o.Run, Step: step.Run.String()})
	exited := make(chan spawn.Exit, 1)
	spec := r.spec(s, step.Run)
	spec.Exited = func(x spawn.Exit) { exited <- x }
	process, err := s.spawner.Start(spec)
	if err != nil {
		s.send(engine.NotSpawned{Unit: o.Unit, Run: o.Run, Problem: fmt.Sprintf("%s step %q: %v", kind, step.Run, err)})
		return false
	}
	r.have(process)
	x := engine.Exit(<-exited)
	s.book.Append(r.entry(0), r.scanner.Rest()...)
	switch {
	case r.isStopped():
		s.send(engine.Exited{Unit: o.Unit, Run: o.Run, Exit: x})
	case !x.OK():
		s.send(engine.NotSpawned{Unit: o.Unit, Run: o.Run, Problem: fmt.Sprintf("%s step %q failed: %s", kind, step.Run, x)})
	default:
		return true
	}
	return false
}
