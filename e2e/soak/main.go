// Soak saves files of a project at random and compares what Omnivigil says with what the project's programs
// themselves say of the code that they run. It is also those programs: see programs.go.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// The project: a make of berths, a compiler in watch mode that makes a page, a task of fares that is reused, and a
// service that reads at its start what these have made and its own settings, and answers with it.
const settings = `
[project]
name = "Saltmarsh Ferries"

[task.berths]
run = "make --no-print-directory"
watch = ["north.txt", "south.txt", "Makefile"]
outputs = ["made/berths"]

[service.page]
run = '%[1]s compile page.txt made/page'
watch = ["page.txt"]
pass = { working = "^page changed", good = "^page made" }

[task.fares]
run = 'sleep 0.1; cat fares.txt > made/fares'
watch = ["fares.txt"]
outputs = ["made/fares"]
reuse = true

[service.tickets]
run = 'exec %[1]s serve tickets.sock made/berths made/page made/fares desk.txt'
watch = ["desk.txt"]
follows = ["berths", "page", "fares"]
ready = { line = "^tickets are sold" }
prelude = ["rm -f tickets.sock"]
`

const makefile = "made/berths: north.txt south.txt Makefile\n\tsleep 0.1; cat north.txt south.txt > made/berths\n"

// sources are the files that are saved, in the order in which tickets tells what came of them.
var sources = []string{"north.txt", "south.txt", "page.txt", "fares.txt", "desk.txt"}

func main() {
	if len(os.Args) > 1 {
		switch os.Args[1] {
		case "compile":
			compile(os.Args[2], os.Args[3])
		case "serve":
			exitOn(serve(os.Args[2], os.Args[3:]))
			return
		}
	}
	length := flag.Duration("for", time.Hour, "how long")
	seed := flag.Uint64("seed", uint64(time.Now().UnixNano()), "of the random saves")
	verbose := flag.Bool("v", false, "print each answer that is not CURRENT")
	flag.Parse()
	exitOn(soak(*length, *seed, *verbose))
}

func exitOn(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, "soak:", err)
		os.Exit(1)
	}
}

// soaking is a soak that continues.
type soaking struct {
	*rand.Rand
	program, dir string
	verbose      bool
	texts        map[string]string // of each source now
	saves        int

	current, doubted, other, surprises int // answers
}

func soak(length time.Duration, seed uint64, verbose bool) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "soak-")
	if err != nil {
		return err
	}
	s := &soaking{
		Rand:    rand.New(rand.NewPCG(seed, 0)),
		program: filepath.Join(filepath.Dir(self), "omnivigil"),
		dir:     dir,
		verbose: verbose,
		texts:   map[string]string{},
	}
	if err := s.begin(self); err != nil {
		return err
	}
	defer s.omnivigil("stop", "--all")
	fmt.Printf("seed %d, in %s\n", seed, dir)
	told := time.Now()
	for began := time.Now(); time.Since(began) < length; {
		if err := s.step(); err != nil {
			return fmt.Errorf("after %s, %d saves: %w", time.Since(began).Round(time.Second), s.saves, err)
		}
		if time.Since(told) > time.Minute {
			told = time.Now()
			fmt.Println(s)
		}
	}
	fmt.Println(s)
	if s.current == 0 {
		return errors.New("it was never current, so nothing was compared")
	}
	if _, err := s.omnivigil("stop", "--all"); err != nil {
		return err
	}
	return os.RemoveAll(dir)
}

func (s *soaking) String() string {
	return fmt.Sprintf(
		"%d saves; current and so: %d; in doubt: %d, of these not so: %d; not current: %d",
		s.saves,
		s.current,
		s.doubted,
		s.surprises,
		s.other,
	)
}

func (s *soaking) begin(self string) error {
	if err := os.Mkdir(filepath.Join(s.dir, "made"), 0o755); err != nil {
		return err
	}
	files := map[string]string{"omnivigil.toml": fmt.Sprintf(settings, self), "Makefile": makefile}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(s.dir, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	for _, name := range sources {
		if err := s.save(name, "0\n"); err != nil {
			return err
		}
	}
	out, err := s.omnivigil("start", "--background", "--trust")
	if err != nil {
		return fmt.Errorf("start the project: %w: %s", err, out)
	}
	return nil
}

// step saves something, waits for a moment or for Omnivigil, and compares.
func (s *soaking) step() error {
	for range 1 + s.IntN(3) {
		if err := s.change(sources[s.IntN(len(sources))]); err != nil {
			return err
		}
		time.Sleep(time.Duration(s.IntN(400)) * time.Millisecond)
	}
	if s.IntN(2) == 0 {
		time.Sleep(time.Duration(s.IntN(1500)) * time.Millisecond)
	}
	return s.compare()
}

// change saves a file in one of the ways in which editors, tools and people do.
func (s *soaking) change(name string) error {
	file := filepath.Join(s.dir, name)
	before := s.texts[name]
	s.saves++
	text := fmt.Sprintf("%d\n", s.saves)
	switch s.IntN(10) {
	case 0: // as it was
		return s.save(name, before)
	case 1: // and back at once
		if err := s.save(name, text); err != nil {
			return err
		}
		time.Sleep(time.Duration(s.IntN(100)) * time.Millisecond)
		return s.save(name, before)
	case 2, 3: // renamed into place
		if err := os.WriteFile(file+"~", []byte(text), 0o644); err != nil {
			return err
		}
		s.texts[name] = text
		return os.Rename(file+"~", file)
	case 4: // with an old time, as an archive is unpacked
		old := time.Now().Add(-time.Duration(1+s.IntN(1000)) * time.Second)
		if err := os.WriteFile(file+"~", []byte(text), 0o644); err != nil {
			return err
		}
		s.texts[name] = text
		return errors.Join(os.Chtimes(file+"~", old, old), os.Rename(file+"~", file))
	case 5: // what was made is gone
		if err := os.Remove(
			filepath.Join(s.dir, "made", [...]string{"berths", "fares"}[s.IntN(2)]),
		); err != nil &&
			!errors.Is(err, os.ErrNotExist) {
			return err
		}
		return nil
	case 6: // touched, which ends doubts
		s.omnivigil("doubts", "--touch") // there may be none
		return nil
	}
	return s.save(name, text)
}

func (s *soaking) save(name, text string) error {
	s.texts[name] = text
	return os.WriteFile(filepath.Join(s.dir, name), []byte(text), 0o644)
}

// compare has Omnivigil wait, and where it says that all is current, asks the programs.
func (s *soaking) compare() error {
	out, _ := s.omnivigil("wait", "--timeout", "60s", "--json") // the exit code says what the answer says
	var said struct {
		OK       bool            `json:"ok"`
		TimedOut bool            `json:"timed_out"`
		Verdict  json.RawMessage `json:"verdict"`
		Doubts   []struct {
			What string `json:"what"`
		} `json:"doubts"`
	}
	if err := json.Unmarshal(out, &said); err != nil {
		return fmt.Errorf("wait answers %q: %w", out, err)
	}
	switch {
	case said.TimedOut:
		return fmt.Errorf("nothing came to rest in a minute: %s", out)
	case !said.OK:
		if s.other++; s.verbose {
			fmt.Printf("%s: %s\n", time.Now().Format("15:04:05.000"), out)
		}
		return nil
	}
	want := strings.Join(
		[]string{
			s.texts["north.txt"],
			s.texts["south.txt"],
			s.texts["page.txt"],
			s.texts["fares.txt"],
			s.texts["desk.txt"],
		},
		"",
	)
	have, err := ask(filepath.Join(s.dir, "tickets.sock"))
	if err != nil {
		return fmt.Errorf("CURRENT, but tickets does not answer: %w", err)
	}
	switch {
	case len(said.Doubts) > 0:
		if s.doubted++; have != want {
			s.surprises++
		}
		return nil
	case have != want:
		return fmt.Errorf(
			"a false CURRENT: tickets runs %q, and the files hold %q; the directory is left: %s",
			have,
			want,
			s.dir,
		)
	}
	s.current++
	return nil
}

// omnivigil runs a command of the program and returns what it prints.
func (s *soaking) omnivigil(args ...string) ([]byte, error) {
	ctx, stop := context.WithTimeout(context.Background(), 2*time.Minute)
	defer stop()
	cmd := exec.CommandContext(ctx, s.program, args...)
	cmd.Dir = s.dir
	cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+filepath.Join(s.dir, ".state"))
	out, err := cmd.Output()
	if failed := (*exec.ExitError)(nil); errors.As(err, &failed) {
		err = fmt.Errorf("%w: %s", err, failed.Stderr)
	}
	return out, err
}
