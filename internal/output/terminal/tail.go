package terminal

import "slices"

// kept is how many of the last bytes are kept: more than screens of lines need.
const kept = 64 << 10

// tail keeps the last bytes of what is added to it.
type tail struct {
	ring    []byte // at most kept
	at      int    // where the oldest byte is
	trimmed bool   // there were more before
}

func (t *tail) add(p []byte) {
	if over := len(p) - kept; over > 0 {
		p, t.trimmed = p[over:], true
	}
	n := min(kept-len(t.ring), len(p))
	t.ring = append(t.ring, p[:n]...)
	for p = p[n:]; len(p) > 0; p = p[n:] {
		n = copy(t.ring[t.at:], p)
		t.at, t.trimmed = (t.at+n)%kept, true
	}
}

// last returns a copy of the last bytes, at most n.
func (t *tail) last(n int) []byte {
	all := slices.Concat(t.ring[t.at:], t.ring[:t.at])
	return all[max(len(all)-n, 0):]
}
