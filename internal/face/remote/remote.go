// Package remote reaches projects on other machines, with the user's own ssh: its configuration, its agent and its
// known hosts count. Start reading at Parse and Address.Link.
package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"sync"
	"time"

	"omnivigil/internal/api/bridge"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
)

// Address is a project on another machine.
type Address struct {
	User, Host, Port string // User and Port may be empty: then those of the user's configuration count
	Path             string // the project's directory there, absolute or beginning with "~/"
}

// Parse parses ssh://[USER@]HOST[:PORT]/PATH. A path that begins with "/~/" is below the home directory.
func Parse(text string) (Address, error) {
	const form = "it is written as ssh://[USER@]HOST/PATH"
	u, err := url.Parse(text)
	switch {
	case err != nil:
		return Address{}, fmt.Errorf("%q is not an address: %s", text, form)
	case u.Scheme != "ssh":
		return Address{}, fmt.Errorf("%q is not an address with ssh: %s", text, form)
	case u.Hostname() == "" || u.Path == "" || u.Path == "/" || u.RawQuery != "" || u.Fragment != "":
		return Address{}, fmt.Errorf("%q lacks a host or a path: %s", text, form)
	}
	a := Address{Host: u.Hostname(), Port: u.Port(), Path: strings.TrimPrefix(u.Path, "/~/")}
	if a.Path != u.Path {
		a.Path = "~/" + a.Path
	}
	if u.User != nil {
		if _, has := u.User.Password(); has {
			return Address{}, errors.New("an address has no password: ssh asks for it")
		}
		a.User = u.User.Username()
	}
	for _, part := range []string{a.Host, a.User} {
		if strings.HasPrefix(part, "-") { // it would be an option of ssh
			return Address{}, fmt.Errorf("%q begins with \"-\"", part)
		}
	}
	return a, nil
}

// String is the address as it is shown.
func (a Address) String() string {
	if a.User == "" {
		return a.Host + ":" + a.Path
	}
	return a.User + "@" + a.Host + ":" + a.Path
}

// arguments are those of ssh that run omnivigil there with some words.
func (a Address) arguments(options []string, words ...string) []string {
	args := options
	if a.Port != "" {
		args = append(args, "-p", a.Port)
	}
	if a.User != "" {
		args = append(args, "-l", a.User)
	}
	return append(args, "--", a.Host, format.Typed(append([]string{"omnivigil"}, words...)))
}

// Run runs a command of omnivigil there, on this terminal, and returns its error.
func (a Address) Run(ctx context.Context, words ...string) error {
	options := []string{"-T"}
	if isTerminal(os.Stdin) && isTerminal(os.Stdout) {
		options = []string{"-t"}
	}
	c := exec.CommandContext(ctx, "ssh", a.arguments(options, words...)...)
	c.Stdin, c.Stdout, c.Stderr = os.Stdin, os.Stdout, os.Stderr
	return c.Run()
}

func isTerminal(f *os.File) bool {
	info, err := f.Stat()
	return err == nil && info.Mode()&os.ModeCharDevice != 0
}

// Link returns a link to the project. The first time it is used, ssh may ask the user on the terminal; later it does
// not.
func (a Address) Link() *bridge.Link {
	return &bridge.Link{Open: func(ctx context.Context, again bool) (io.ReadWriteCloser, error) {
		return a.open(ctx, again)
	}}
}

// session is ssh, with what it reads and writes as a stream.
type session struct {
	io.Reader
	io.WriteCloser
	cmd    *exec.Cmd
	errors *tail
	once   sync.Once
	ended  error
}

func (a Address) open(_ context.Context, again bool) (io.ReadWriteCloser, error) {
	options := []string{"-T", "-o", "ServerAliveInterval=5"}
	if again {
		options = append(options, "-o", "BatchMode=yes", "-o", "ConnectTimeout=5")
	}
	c := exec.Command("ssh", a.arguments(options, "bridge", "-C", a.Path)...)
	in, err := c.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := c.StdoutPipe()
	if err != nil {
		return nil, err
	}
	s := &session{Reader: out, WriteCloser: in, cmd: c, errors: &tail{}}
	c.Stderr = s.errors
	if again {
		c.SysProcAttr = apart()
	}
	if err := c.Start(); err != nil {
		return nil, fmt.Errorf("run ssh: %w", err)
	}
	return s, nil
}

// Read reads what omnivigil writes there. At its end, the error tells what ssh has reported.
func (s *session) Read(p []byte) (int, error) {
	n, err := s.Reader.Read(p)
	if err == nil || n > 0 {
		return n, nil
	}
	s.wait()
	if text := s.errors.String(); text != "" {
		return 0, errors.New(text)
	}
	return 0, err
}

func (s *session) wait() {
	s.once.Do(func() { s.ended = s.cmd.Wait() })
}

// Close ends ssh.
func (s *session) Close() error {
	err := s.WriteCloser.Close()
	const patience = time.Second
	ended := make(chan struct{})
	go func() {
		s.wait()
		close(ended)
	}()
	select {
	case <-ended:
	case <-time.After(patience):
		s.cmd.Process.Kill()
		<-ended
	}
	return err
}

// tail keeps the end of what is written.
type tail struct {
	mu   sync.Mutex
	text []byte
}

// maxTail is how much of what ssh reports is kept, in bytes.
const maxTail = 2 << 10

func (t *tail) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.text = append(t.text, p...)
	t.text = t.text[max(len(t.text)-maxTail, 0):]
	return len(p), nil
}

// String is that end, safe to show.
func (t *tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return escape.Lines(strings.TrimSpace(strings.ReplaceAll(string(t.text), "\r", "")))
}
