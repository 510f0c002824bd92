package session

import (
	"context"
	"slices"
	"sync"
	"time"

	"omnivigil/internal/api"
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
		next.Reset(api.Frame)
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
		s.account.add(api.Fact{At: time.Now().Round(0), Kind: kind, Text: text + s.clean(face.Kind), PID: face.PID})
	}
	s.notify()
}

func (s *Session) left(face *api.Face) {
	sh := &s.showing
	sh.mu.Lock()
	sh.faces = slices.DeleteFunc(sh.faces, func(f *api.Face) bool { return f == face })
	alone := len(sh.faces) == 0 && !sh.background
	sh.mu.Unlock()
	s.tellFace(api.FactFaceLeft, "a face has left: ", *face)
	if alone && s.deserted != nil {
		s.deserted()
	}
}
