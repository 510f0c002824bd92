package process

import (
	"maps"
	"os"
	"slices"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// tracker knows which descendants of the program belong to which run, wherever they are: in their own sessions, or
// orphaned by forking twice. It relies on the program being the parent of orphans (BecomeSubreaper), and goes by
// parents first, then by the mark in the environment, then by session and group.
type tracker struct {
	leaders  map[int]*Process
	known    map[ident]*Process
	marks    map[string]*Process
	sessions map[int]*Process
	groups   map[int]*group // process groups, by number
	waiting  map[int]bool   // processes that were started in advance, and belong to no run yet
}

// group is a process group of a run. It belongs to no other run: each run has its own sessions, and a group lies
// within one session (see setpgid(2)).
type group struct {
	owner *Process
	seen  time.Time // when one of its processes was last seen
}

// ident identifies a process: numbers are reused, with another start time.
type ident struct {
	pid  int
	born uint64
}

func newTracker() tracker {
	return tracker{
		map[int]*Process{},
		map[ident]*Process{},
		map[string]*Process{},
		map[int]*Process{},
		map[int]*group{},
		map[int]bool{},
	}
}

func (t *tracker) add(p *Process) {
	t.leaders[p.PID], t.marks[p.mark], t.sessions[p.PID] = p, p, p
	t.groups[p.PID] = &group{p, time.Now()}
}

// drop forgets a run whose leader has been reaped and whose members are gone.
func (t *tracker) drop(p *Process) {
	delete(t.leaders, p.PID)
	delete(t.marks, p.mark)
	maps.DeleteFunc(t.sessions, func(_ int, owner *Process) bool { return owner == p })
	maps.DeleteFunc(t.groups, func(_ int, g *group) bool { return g.owner == p })
	maps.DeleteFunc(t.known, func(_ ident, owner *Process) bool { return owner == p })
}

// expect notes whether a process waits for its run.
func (t *tracker) expect(pid int, waits bool) {
	if delete(t.waiting, pid); waits {
		t.waiting[pid] = true
	}
}

// adopted returns the orphans that the program has become the parent of; see there.
func (t *tracker) adopted() []int {
	return slices.DeleteFunc(adopted(), func(pid int) bool { return t.waiting[pid] })
}

// members returns the living processes of each run.
func (t *tracker) members() map[*Process][]member {
	return t.sort(withDescendants(slices.AppendSeq(t.adopted(), maps.Keys(t.leaders))))
}

// sort assigns each living process to its run, and reaps adopted ones that have ended.
func (t *tracker) sort(all []member) map[*Process][]member {
	self, session, now := os.Getpid(), ownSession(), time.Now()
	byPID := make(map[int]member, len(all))
	for _, m := range all {
		byPID[m.pid] = m
	}
	out := map[*Process][]member{}
	for _, m := range all {
		owner := t.owner(m, byPID)
		if owner == nil {
			// No other code reaps it. What the program has started for itself is in its own session.
			if m.parent == self && m.gone() && m.session != session {
				collect(m.pid)
			}
			continue
		}
		t.known[ident{m.pid, m.born}] = owner
		t.sessions[m.session] = owner
		if m.group > 0 {
			t.groups[m.group] = &group{owner, now}
		}
		gone := m.gone()
		if m.parent == self && t.leaders[m.pid] == nil {
			owner.strays = true
			gone = collect(m.pid)
		}
		if !gone {
			out[owner] = append(out[owner], m)
		}
	}
	return out
}

// ownSession is the session of the calling process.
var ownSession = sync.OnceValue(func() int {
	id, _ := unix.Getsid(0)
	return id
})

func (t *tracker) owner(m member, byPID map[int]member) *Process {
	if p := t.known[ident{m.pid, m.born}]; p != nil {
		return p
	}
	if p := t.leaders[m.pid]; p != nil {
		return p
	}
	if parent, ok := byPID[m.parent]; ok {
		if p := t.known[ident{parent.pid, parent.born}]; p != nil {
			return p
		}
	}
	if p := t.marks[mark(m.pid, markName)]; p != nil {
		return p
	}
	if p := t.sessions[m.session]; p != nil {
		return p
	}
	if g := t.groups[m.group]; g != nil {
		return g.owner
	}
	return nil
}

// told is the last signal to a run, and which of its process groups have got it.
type told struct {
	signal syscall.Signal
	groups map[int]bool
}

// signal signals each process group of a run. The kernel signals a whole group at once, so that none of it escapes by
// starting another one and exiting. Groups are looked up first: once one is gone, others may be harder to find.
func (t *tracker) signal(p *Process, sig syscall.Signal) error {
	if sig == syscall.SIGKILL {
		t.freeze(p)
	}
	p.told = told{signal: sig, groups: map[int]bool{}}
	ahead := sig != syscall.SIGKILL && time.Since(p.looked) < fresh
	if !ahead {
		t.look(p)
	}
	var failed error
	for _, group := range t.groupsOf(p) {
		p.told.groups[group] = true
		if err := syscall.Kill(-group, sig); err != nil && err != syscall.ESRCH {
			failed = err
		}
	}
	if ahead { // for processes that are that young
		t.remind(p)
	}
	return failed
}

// fresh is how long a look counts as one at a signal.
const fresh = 2 * time.Millisecond

// lookAhead looks up the groups of a run that will probably be signalled soon.
func (t *tracker) lookAhead(p *Process) {
	t.look(p)
	p.looked = time.Now()
}

// maxLooks is how often a run is searched for new processes; what is left then is found by the next reminder.
const maxLooks = 50

// freeze stops a run's process groups, so that none escapes by starting another one and exiting, until a look finds
// no new one.
func (t *tracker) freeze(p *Process) {
	frozen := map[int]bool{}
	for range maxLooks {
		t.look(p)
		found := false
		for _, group := range t.groupsOf(p) {
			if !frozen[group] {
				frozen[group], found = true, true
				syscall.Kill(-group, syscall.SIGSTOP)
			}
		}
		if !found {
			return
		}
	}
}

// look updates what is known of a run and returns its living processes.
func (t *tracker) look(p *Process) []member {
	return t.sort(withDescendants(append(t.adopted(), p.PID)))[p]
}

// groupsOf returns the process groups of a run that were seen a moment ago: a number that was seen long ago may
// belong to another process by now.
func (t *tracker) groupsOf(p *Process) []int {
	const recent = time.Second
	var all []int
	for number, g := range t.groups {
		if g.owner == p && (number == p.PID || time.Since(g.seen) < recent) {
			all = append(all, number)
		}
	}
	return all
}

// remind sends the last signal to process groups that have not got it: the kernel's lists of children may miss one
// that is just being created.
func (t *tracker) remind(p *Process) {
	if p.told.groups == nil {
		return
	}
	for range maxLooks {
		t.look(p)
		late := slices.DeleteFunc(t.groupsOf(p), func(g int) bool { return p.told.groups[g] })
		for _, group := range late {
			p.told.groups[group] = true
			for _, sig := range []syscall.Signal{syscall.SIGSTOP, p.told.signal, syscall.SIGCONT} {
				syscall.Kill(-group, sig)
			}
		}
		if len(late) == 0 {
			return
		}
	}
}

// alive reports whether a run whose leader has been reaped has a living process. Of every chain of parents that is
// left, the program has adopted the first.
func (t *tracker) alive(p *Process) bool {
	var before []int
	for n := range maxLooks {
		now := t.adopted()
		if len(t.sort(withDescendants(now))[p]) > 0 {
			return true
		}
		// A process that has just ended may have left another one, and the list was not complete then. Two lists that
		// agree are, and so is one without any process.
		if len(now) == 0 || n > 0 && slices.Equal(now, before) {
			return p.strays && t.strayed(p)
		}
		before = now
	}
	return true // too many start and exit to be certain
}

// strayed reports whether something is left of a run that has had processes outside its tree. A process that
// repeatedly starts another one and exits may be in no list when it is read, but its process group exists.
func (t *tracker) strayed(p *Process) bool {
	for _, group := range t.groupsOf(p) {
		if syscall.Kill(-group, 0) != nil {
			continue
		}
		// Some of the group may have ended and not been reaped.
		if len(t.look(p)) > 0 || syscall.Kill(-group, 0) == nil {
			return true
		}
	}
	return false
}
