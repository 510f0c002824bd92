package session

import (
	"context"
	"slices"
	"sync"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/text/format"
)

// Follow implements api.Project.
func (s *Session) Follow(ctx context.Context, face api.Face, show func(*api.Snapshot) error) error {
	if face.Kind != "" {
		defer s.Enter(face)()
	}
	changed, stopChanged := s.Changed()
	defer stopChanged()
	grown, stopGrown := s.book.Grown()
	defer stopGrown()
	next := time.NewTimer(0)
	defer next.Stop()
	for last := int64(0); ; {
		select {
		case <-next.C:
		case <-ctx.Done():
			return ctx.Err()
		}
		snap := s.shown()
		if snap.Number != last {
			last = snap.Number
			if err := show(snap); err != nil {
				return err
			}
		}
		if snap.Ended {
			return nil
		}
		// All faces are told at the same times, so that what they are sent can be made once.
		next.Reset(api.Frame - time.Duration(time.Now().UnixNano())%api.Frame)
		select {
		case <-changed:
		case <-grown:
		case <-s.done:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// used records that the user has used a face.
func (s *Session) used(process int) {
	s.showing.mu.Lock()
	for _, f := range s.showing.faces {
		if f.PID == process {
			f.UsedAt = time.Now().Round(0)
		}
	}
	s.showing.mu.Unlock()
	s.notify()
}

// Enter attaches a face until the returned function is called. A face without a kind is not shown to others.
func (s *Session) Enter(face api.Face) (leave func()) {
	face.UsedAt = time.Now().Round(0)
	s.showing.mu.Lock()
	s.showing.faces = append(s.showing.faces, &face)
	s.showing.mu.Unlock()
	s.tellFace(api.FactFaceCame, "attached: ", face)
	var once sync.Once
	return func() { once.Do(func() { s.left(&face) }) }
}

func (s *Session) tellFace(kind, text string, face api.Face) {
	if face.Kind != "" {
		s.account.Add(api.Fact{At: time.Now().Round(0), Kind: kind, Text: text + s.clean(face.Kind), PID: face.PID})
	}
	s.notify()
}

func (s *Session) left(face *api.Face) {
	sh := &s.showing
	sh.mu.Lock()
	sh.faces = slices.DeleteFunc(sh.faces, func(f *api.Face) bool { return f == face })
	sh.departures++
	departure, deserted := sh.departures, sh.isDeserted()
	if face.Kind != "" { // the other one stands for the process of a face
		sh.leave = face.Leave.Duration()
	}
	wait := sh.leave
	sh.mu.Unlock()
	s.tellFace(api.FactFaceLeft, "a face has left: ", *face)
	switch {
	case !deserted:
	case wait == 0:
		s.endDeserted(departure)
	default:
		s.Note("the last screen is gone: everything ends in " + format.Duration(wait) + ", unless one is attached")
		time.AfterFunc(wait, func() { s.endDeserted(departure) })
	}
}

// isDeserted reports whether no face is attached to a project that is not in the background. The caller has the lock.
func (sh *showing) isDeserted() bool { return len(sh.faces) == 0 && !sh.background }

// endDeserted ends the project if it has been deserted since a departure.
func (s *Session) endDeserted(departure int) {
	s.showing.mu.Lock()
	still := s.showing.isDeserted() && s.showing.departures == departure
	s.showing.mu.Unlock()
	if still && s.deserted != nil {
		s.deserted()
	}
}

// keepRunning makes the project a background project, or one that ends with its last face.
func (s *Session) keepRunning(background bool) (api.Answer, error) {
	sh := &s.showing
	sh.mu.Lock()
	defer s.notify()
	defer sh.mu.Unlock()
	if !background && len(sh.faces) == 0 {
		return api.Answer{}, api.Refuse("no screen is attached with which the project could end; stop --all ends it")
	}
	if sh.background = background; background {
		return api.Answer{Text: "The project keeps running without a screen."}, nil
	}
	return api.Answer{Text: "The project ends when its last screen is closed."}, nil
}
