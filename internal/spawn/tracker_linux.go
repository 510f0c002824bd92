package spawn

import (
	"maps"
	"os"
	"slices"
	"syscall"
)

// tracker knows which of the program's descendants belong to which run, wherever
// they have gone: into sessions of their own, or orphaned by forking twice. It
// relies on the program being the parent of orphans (BecomeSubreaper), and goes
// by parents first, then by the mark in the environment, then by session.
type tracker struct {
	leaders  map[int]*Process
	known    map[ident]*Process
	marks    map[string]*Process
	sessions map[int]*Process
}

// ident names a process for good: numbers are used again, with another birth.
type ident struct {
	pid  int
	born uint64
}

func newTracker() tracker {
	return tracker{map[int]*Process{}, map[ident]*Process{}, map[string]*Process{}, map[int]*Process{}}
}

func (t *tracker) add(p *Process) {
	t.leaders[p.PID], t.marks[p.mark], t.sessions[p.PID] = p, p, p
}

// drop forgets a run whose leader has been collected and whose members are gone.
func (t *tracker) drop(p *Process) {
	delete(t.leaders, p.PID)
	delete(t.marks, p.mark)
	delete(t.sessions, p.PID)
	for id, owner := range t.known {
		if owner == p {
			delete(t.known, id)
		}
	}
}

// members returns the living processes of each run.
func (t *tracker) members() map[*Process][]member {
	return t.sort(withDescendants(slices.AppendSeq(adopted(), maps.Keys(t.leaders))))
}

// sort gives each living process to the run that it belongs to, and collects
// adopted ones that have ended.
func (t *tracker) sort(all []member) map[*Process][]member {
	self := os.Getpid()
	byPID := make(map[int]member, len(all))
	for _, m := range all {
		byPID[m.pid] = m
	}
	out := map[*Process][]member{}
	for _, m := range all {
		owner := t.owner(m, byPID)
		if owner == nil {
			continue
		}
		t.known[ident{m.pid, m.born}] = owner
		t.sessions[m.session] = owner
		gone := m.gone()
		if m.parent == self && t.leaders[m.pid] == nil {
			gone = collect(m.pid)
		}
		if !gone {
			out[owner] = append(out[owner], m)
		}
	}
	return out
}

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
	return t.sessions[m.session]
}

// told is which signal a run was sent last, and who has had it.
type told struct {
	signal  syscall.Signal
	members map[ident]bool
}

// signal sends to the run's own group and to each member outside it. Members are
// looked up first: once the group is gone, some may be harder to find.
func (t *tracker) signal(p *Process, sig syscall.Signal) error {
	p.told = told{sig, map[ident]bool{}}
	outside := t.outside(p)
	err := syscall.Kill(-p.PID, sig)
	if err == syscall.ESRCH {
		err = nil
	}
	for _, m := range outside {
		if e := t.tell(p, m); e != nil && err == nil {
			err = e
		}
	}
	return err
}

func (t *tracker) outside(p *Process) []member {
	all := t.sort(withDescendants(append(adopted(), p.PID)))
	return slices.DeleteFunc(all[p], func(m member) bool { return m.group == p.PID })
}

func (t *tracker) tell(p *Process, m member) error {
	p.told.members[ident{m.pid, m.born}] = true
	if err := syscall.Kill(m.pid, p.told.signal); err != nil && err != syscall.ESRCH {
		return err
	}
	return nil
}

// remind sends the last signal to members outside the group that have not had it.
// The kernel's lists of children may leave out one that is just being made.
func (t *tracker) remind(p *Process) {
	if p.told.members == nil {
		return
	}
	for _, m := range t.outside(p) {
		if !p.told.members[ident{m.pid, m.born}] {
			t.tell(p, m)
		}
	}
}

// alive reports whether a run whose leader has been collected has a living process.
// Of every chain of parents that remains, the program has adopted the first.
func (t *tracker) alive(p *Process) bool {
	var before []int
	for again := false; ; again = true {
		now := adopted()
		if len(t.sort(withDescendants(now))[p]) > 0 {
			return true
		}
		// One that has just ended may have left another, and the list was not
		// complete then. Two that agree are, and one without a single process.
		if len(now) == 0 || again && slices.Equal(now, before) {
			return false
		}
		before = now
	}
}
