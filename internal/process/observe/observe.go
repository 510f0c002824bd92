// Package observe records what processes do: which files they read, look for, write and remove, which programs they
// execute, and which addresses they listen on and connect to.
//
// On Linux a seccomp filter stops a process at the system calls that have names of files or addresses as arguments,
// and the kernel reports each of them to this package through a file descriptor (seccomp_unotify(2)). The package reads
// the arguments from the memory of the process, records them, and lets the call continue. Signals, exit statuses,
// terminals and process groups are as without a filter, and so is ptrace(2): a debugger can be observed. All
// descendants have the filter, too. What a call returns is not known, so files are looked at just before it.
//
// Prefer this over ptrace(2): it is one stop for each call instead of two, a process can still be traced by another
// program, and when the observer dies its processes do not stay stopped.
//
// Start reading at Prepare, then listener.run.
package observe

import (
	"errors"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"
)

// ErrUnavailable is wrapped by errors that tell why processes cannot be observed here.
var ErrUnavailable = errors.New("processes cannot be observed")

// Access is what processes did with a path.
type Access uint16

const (
	// Read: a file was opened for reading.
	Read Access = 1 << iota
	// Listed: a directory's entries were read.
	Listed
	// Looked: something that exists was looked at, without being opened.
	Looked
	// Missing: something was looked for, or opened, and did not exist.
	Missing
	// Written: a file was opened for writing, or truncated.
	Written
	// Created: a file, directory or link was made that did not exist.
	Created
	// Removed: it was removed or renamed.
	Removed
	// Watched: it was asked to be told of changes of it, and of what is in it if it is a directory.
	Watched
	// Executed: it was executed as a program.
	Executed
)

// Has reports whether all of these accesses happened.
func (a Access) Has(all Access) bool { return a&all == all }

// Any reports whether one of these accesses happened.
func (a Access) Any(of Access) bool { return a&of != 0 }

// Path is what was done with one path below the root of a Log.
type Path struct {
	Name   string // relative to the root, with forward slashes; symbolic links are resolved
	Access Access
	Since  time.Time // the first access
}

// Program is a program that was executed.
type Program struct {
	Path string   // absolute
	Args []string // of its first execution, with its own name; shortened
	// Privileged: it has the setuid or setgid bit, which has no effect under observation.
	Privileged bool
}

// Address is an address of IP, as the process gave it (it may be unspecified), or the absolute path of a Unix socket.
type Address struct {
	IP    netip.AddrPort `json:",omitzero"`
	Path  string         `json:",omitempty"`
	Since time.Time      // the first use
}

// String returns it as it is usually written.
func (a Address) String() string {
	if a.Path != "" {
		return a.Path
	}
	return a.IP.String()
}

// Seen is what was observed so far. Lists are sorted by names and addresses.
type Seen struct {
	Paths    []Path
	Programs []Program
	Listens  []Address // that were listened on
	Connects []Address // that were connected to, or that datagrams were sent to
	// Unread is how many calls could not be observed, because the memory of their process cannot be read, and Blind are
	// the names of such processes.
	Unread int
	Blind  []string
	// Over is how many paths were not recorded because there were too many.
	Over int
}

// maxPaths limits the paths of a log: an installation touches some ten thousands.
const maxPaths = 200_000

// Log collects what processes do. Its methods may be called from any goroutine.
type Log struct {
	root string // absolute and without symbolic links
	news func()

	mu       sync.Mutex
	last     time.Time // the last addition
	paths    map[string]Path
	programs map[string]Program
	listens  map[string]Address
	connects map[string]Address
	blind    map[string]string
	unread   int
	over     int
}

// NewLog returns a log of what happens below root, an existing absolute path without symbolic links. News, if not nil,
// is called after each addition, from the goroutine that observes: it must not block.
func NewLog(root string, news func()) *Log {
	return &Log{
		root: strings.TrimSuffix(root, "/"), news: news,
		paths: map[string]Path{}, programs: map[string]Program{},
		listens: map[string]Address{}, connects: map[string]Address{}, blind: map[string]string{},
	}
}

// Seen returns what was observed so far.
func (l *Log) Seen() Seen {
	l.mu.Lock()
	defer l.mu.Unlock()
	return Seen{
		Paths: inOrder(l.paths), Programs: inOrder(l.programs),
		Listens: inOrder(l.listens), Connects: inOrder(l.connects),
		Unread: l.unread, Blind: slices.Sorted(maps.Keys(l.blind)), Over: l.over,
	}
}

// inOrder returns the values of a map in the order of their keys.
func inOrder[V any](of map[string]V) []V {
	all := make([]V, 0, len(of))
	for _, key := range slices.Sorted(maps.Keys(of)) {
		all = append(all, of[key])
	}
	return all
}

// With returns what was seen in two runs. The times are those of s, where both have one.
func (s Seen) With(other Seen) Seen {
	all := NewLog("/", nil)
	for _, one := range []Seen{s, other} {
		for _, p := range one.Paths {
			have, known := all.paths[p.Name]
			if !known {
				have = p
			}
			have.Access |= p.Access
			all.paths[p.Name] = have
		}
		keep(all.programs, one.Programs, func(p Program) string { return p.Path })
		keep(all.listens, one.Listens, Address.String)
		keep(all.connects, one.Connects, Address.String)
		keep(all.blind, one.Blind, func(name string) string { return name })
		all.unread, all.over = all.unread+one.Unread, max(all.over, one.Over)
	}
	return all.Seen()
}

// keep adds what a map does not have yet.
func keep[V any](in map[string]V, all []V, key func(V) string) {
	for _, one := range all {
		if _, known := in[key(one)]; !known {
			in[key(one)] = one
		}
	}
}

// Last returns when something was last added; zero: never.
func (l *Log) Last() time.Time {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.last
}

// change runs an addition, and reports it if it has added something.
func (l *Log) change(add func() bool) {
	l.mu.Lock()
	added := add()
	if added {
		l.last = time.Now()
	}
	l.mu.Unlock()
	if added && l.news != nil {
		l.news()
	}
}

// access adds an access to a path.
func (l *Log) access(name string, a Access) {
	l.change(func() bool {
		p, known := l.paths[name]
		if !known {
			if len(l.paths) >= maxPaths {
				l.over++
				return false
			}
			p = Path{Name: strings.Clone(name), Since: time.Now()}
		}
		if known && p.Access.Has(a) {
			return false
		}
		p.Access |= a
		l.paths[p.Name] = p
		return true
	})
}

func (l *Log) executed(p Program) {
	l.change(func() bool {
		if _, known := l.programs[p.Path]; known {
			return false
		}
		l.programs[p.Path] = p
		return true
	})
}

// address adds an address to the log's listens or connects.
func (l *Log) address(to map[string]Address, a Address) {
	l.change(func() bool {
		if _, known := to[a.String()]; known {
			return false
		}
		a.Since = time.Now()
		to[a.String()] = a
		return true
	})
}

func (l *Log) unreadable(name string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.unread++
	l.blind[name] = name
}
