package timeline

import "time"

// Skip is a time that an axis leaves out: that between two sessions.
type Skip struct{ From, To time.Time }

// Skips are the times that an axis leaves out, oldest first. They do not overlap.
type Skips []Skip

// compressed moves a time before skips later by their durations, so that what is left is without gaps. A time within
// one is its end.
func (s *Skips) compressed(t time.Time) time.Time {
	if s == nil {
		return t
	}
	var by time.Duration
	for i := len(*s) - 1; i >= 0; i-- {
		one := (*s)[i]
		if !t.Before(one.To) {
			break
		}
		if t.After(one.From) {
			t = one.From
		}
		by += one.To.Sub(one.From)
	}
	return t.Add(by)
}

// expanded is the inverse of compressed.
func (s *Skips) expanded(t time.Time) time.Time {
	if s == nil {
		return t
	}
	for i := len(*s) - 1; i >= 0; i-- {
		one := (*s)[i]
		if !t.Before(one.To) {
			break
		}
		t = t.Add(-one.To.Sub(one.From))
	}
	return t
}

// Leave returns a time that is not left out: of one that is, the end of what is before it.
func (s *Skips) Leave(t time.Time) time.Time {
	if one, is := s.around(t); is {
		return one.From
	}
	return t
}

// around returns the skip that a time is in.
func (s *Skips) around(t time.Time) (Skip, bool) {
	if s != nil {
		for _, one := range *s {
			if t.After(one.From) && t.Before(one.To) {
				return one, true
			}
		}
	}
	return Skip{}, false
}

// Bound is where an axis leaves out a time: the column that has the first moment after it.
type Bound struct {
	Column int
	Skip
}

// Bounds returns where the axis leaves out a time.
func (a Axis) Bounds() (bounds []Bound) {
	if a.Skips == nil {
		return nil
	}
	for _, one := range *a.Skips {
		if column := a.At(one.To); a.Has(column) && column > 0 {
			bounds = append(bounds, Bound{column, one})
		}
	}
	return bounds
}
