package history

import (
	"encoding/json"
	"fmt"
	"time"

	"github.com/klauspost/compress/zstd"

	"omnivigil/internal/api"
)

// Stood writes the state of the project, which replaces an earlier one of the session.
func (w *Writer) Stood(s *api.Snapshot) { w.add(state{s}) }

// state is the newest state of the session.
type state struct{ of *api.Snapshot }

func (s state) write(t *transaction) error {
	packed, err := PackState(s.of)
	if err != nil {
		return err
	}
	_, err = t.Exec("UPDATE session SET state = ?, seen = ? WHERE id = ?", packed, milli(s.of.At), t.session)
	return err
}

// PackState returns a snapshot as it is stored: JSON, compressed with Zstandard.
func PackState(s *api.Snapshot) ([]byte, error) {
	text, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	to, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	return to.EncodeAll(text, nil), nil
}

// maxState is the maximum size of a snapshot, in bytes.
const maxState = 256 << 20

// UnpackState is the inverse of PackState. It returns an error for what is damaged or too large.
func UnpackState(packed []byte) (*api.Snapshot, error) {
	from, err := zstd.NewReader(nil, zstd.WithDecoderMaxMemory(maxState), zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	defer from.Close()
	text, err := from.DecodeAll(packed, nil)
	if err != nil {
		return nil, fmt.Errorf("unpack the state of a session: %w", err)
	}
	s := &api.Snapshot{}
	return s, json.Unmarshal(text, s)
}

// Judged writes the verdict from a time on.
func (w *Writer) Judged(v api.PastVerdict) { w.add(verdict(v)) }

type verdict api.PastVerdict

func (v verdict) write(t *transaction) error {
	t.judged = max(t.judged+1, v.At.UnixMilli()) // there may be several within a millisecond
	_, err := t.Exec("INSERT OR REPLACE INTO verdict (session, at, word, text, turned) VALUES (?, ?, ?, ?, ?)",
		t.session, t.judged, string(v.Verdict.Word), v.Verdict.Text, string(v.Turned))
	return err
}

// Change is what a ripple has changed in a file.
type Change struct {
	Ripple        int
	Path          string // relative to the project's directory
	At            time.Time
	Before, After json.RawMessage // as the table change describes
	Reverts       int             // the ripple whose change it takes back; 0: none
}

// Changed writes a change.
func (w *Writer) Changed(c Change) { w.add(c) }

func (c Change) write(t *transaction) error {
	_, err := t.Exec(`INSERT OR REPLACE INTO change (session, ripple, path, at, before, after, reverts)
		VALUES (?, ?, ?, ?, ?, ?, ?)`,
		t.session, c.Ripple, c.Path, milli(c.At), string(c.Before), string(c.After), c.Reverts)
	return err
}

// sessionEnd ends the session.
type sessionEnd struct{ at time.Time }

func (e sessionEnd) write(t *transaction) error {
	_, err := t.Exec("UPDATE session SET ended = ? WHERE id = ?", milli(e.at), t.session)
	return err
}
