package reader

import (
	"slices"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/output/lens"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/stacktrace"
	"omnivigil/internal/text/escape"
)

// folding is which lines count as one.
type folding int

const (
	asTheyAre folding = iota
	ifEqual           // consecutive equal lines
	ifSimilar         // near lines of one kind
)

func foldingOf(q api.LineQuery) folding {
	switch {
	case q.Similar:
		return ifSimilar
	case q.Fold:
		return ifEqual
	}
	return asTheyAre
}

// readsOn reports whether more lines are read for a page of count rows: seen have been read, which are rows, from so
// wide a part of the log. Folded, more than a page is read, so that the first row has its whole number of lines; but no
// more than takes a few milliseconds.
func (f folding) readsOn(seen, rows, count int, wide int64) bool {
	switch f {
	case ifEqual:
		return (seen < 16*count || rows < count) && wide < 200_000
	case ifSimilar:
		return seen < 200*count && wide < 30_000
	}
	return rows < count
}

// near is how many different lines may be between two of one kind.
const near = 12

// folder collects lines from the last one to the first, and folds them.
type folder struct {
	by    folding
	found []api.Line // the last line first
	kinds []uint64   // of found, if lines of one kind fold
	kind  uint64     // of the line that was not joined
}

// join folds a line into a later one, and reports whether there is one. If there is none, add adds it.
func (f *folder) join(b *logbook.Batch, number int64, text []byte) bool {
	f.kind = 0
	if b.Stream != logbook.Output || len(text) == 0 {
		return false
	}
	switch n := len(f.found); f.by {
	case ifEqual:
		if n == 0 || !again(&f.found[n-1], b, text) {
			return false
		}
		l := &f.found[n-1] // of equal lines, the first one is kept
		l.Times, l.Number, l.At = max(l.Times, 1)+1, number, time.Unix(0, b.At)
		return true
	case ifSimilar:
		f.kind = lens.Kind(text)
		for i := n - 1; i >= max(n-near, 0); i-- {
			l := &f.found[i]
			if f.kinds[i] != f.kind || l.Unit != b.Unit || l.Stream != api.Output {
				continue
			}
			l.Times = max(l.Times, 1) + 1
			l.Similar = l.Similar || l.Text != string(text)
			return true
		}
	}
	return false
}

func (f *folder) add(b *logbook.Batch, number int64, text []byte) {
	f.found = append(f.found,
		Line(logbook.Line{Number: number, At: time.Unix(0, b.At), Text: string(text), Entry: *b.Entry}))
	if f.by == ifSimilar {
		f.kinds = append(f.kinds, f.kind)
	}
}

// lines returns what was collected, in the order in which it was written.
func (f *folder) lines() []api.Line {
	slices.Reverse(f.found)
	if f.by == ifEqual {
		return folded(f.found)
	}
	return f.found
}

// again reports whether a line of output has the same text as the next one.
func again(after *api.Line, b *logbook.Batch, text []byte) bool {
	return after.Stream == api.Output && after.Unit == b.Unit && after.Text == string(text)
}

// folded folds consecutive equal lines, and equal stack traces. The first of them has their number.
func folded(all []api.Line) []api.Line {
	out := all[:0]
	var last []api.Line // the newest block in out
	for len(all) > 0 {
		n := blockLength(all)
		block := all[:n]
		all = all[n:]
		if sameBlock(last, block) {
			last[0].Times = max(last[0].Times, 1) + max(block[0].Times, 1)
			continue
		}
		from := len(out)
		out = append(out, block...)
		last = out[from:]
	}
	return out
}

// blockLength is how many lines at the beginning form one stack trace, or 1.
func blockLength(all []api.Line) int {
	first := all[0]
	var r stacktrace.Reader
	for n, l := range all {
		same := l.Stream == api.Output && l.Unit == first.Unit && l.Run == first.Run
		if n > 0 && (!same || !r.Continues(escape.Strip(l.Text))) || first.Stream != api.Output {
			return max(n, 1)
		}
		if n == 0 {
			r.Continues(escape.Strip(l.Text))
		}
	}
	return len(all)
}

// sameBlock reports whether two blocks of one unit's output have the same text, and any.
func sameBlock(a, b []api.Line) bool {
	if len(a) != len(b) || a[0].Stream != api.Output || b[0].Stream != api.Output || a[0].Unit != b[0].Unit ||
		a[0].Text == "" {
		return false
	}
	return slices.EqualFunc(a, b, func(x, y api.Line) bool { return x.Text == y.Text })
}
