package logbook

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"omnivigil/internal/text/format"
)

// Limits are the limits of a project's logs. What exceeds them is deleted, the oldest first, and the segments of the
// running session last. The zero value sets no limit.
type Limits struct {
	Size int64 // bytes
	Age  time.Duration
}

// sweepPause is how long logs may stay too old until the next check, while lines arrive.
const sweepPause = time.Hour

// segment returns the maximum size of a segment's text.
func (l Limits) segment() int64 {
	if l.Size <= 0 {
		return segmentMax
	}
	return min(max(l.Size/segmentPer, segmentMin), segmentMax)
}

// SessionForm is the name of the directory of a session's log, from its start time.
const SessionForm = "20060102-150405.000"

// kept is a segment, or the other files of a session.
type kept struct {
	session string // its directory
	path    string // of the segment's files, without their extensions; "" for the other files
	size    int64
	at      time.Time // of the last write
}

// sweep deletes what exceeds the limits, and reports it in the log.
func (b *Book) sweep() {
	b.mu.Lock()
	limits := b.limits
	b.mu.Unlock()
	if limits == (Limits{}) {
		return
	}
	all := append(othersOf(b.dir), keptIn(b.dir)...)
	total := int64(0)
	for _, k := range all {
		total += k.size
	}
	sessions, own := 0, 0
	for _, k := range all {
		tooMuch := limits.Size > 0 && total > limits.Size
		tooOld := limits.Age > 0 && time.Since(k.at) > limits.Age
		switch {
		case !tooMuch && !tooOld:
			continue
		case k.session != b.dir:
			if k.delete(false) {
				sessions++
			}
		case !b.forget(k.path):
			continue
		default:
			k.delete(true)
			own++
		}
		total -= k.size
	}
	b.sayDeleted(limits, sessions, own)
}

// othersOf returns what the other sessions next to a directory have left, oldest first.
func othersOf(dir string) []kept {
	entries, _ := os.ReadDir(filepath.Dir(dir)) // sorted by name, which is by age
	var all []kept
	for _, e := range entries {
		other := filepath.Join(filepath.Dir(dir), e.Name())
		if _, err := time.Parse(SessionForm, e.Name()); err == nil && e.IsDir() && other != dir {
			all = append(all, keptIn(other)...)
		}
	}
	return all
}

// keptIn returns the segments of a session, oldest first, and then its other files.
func keptIn(session string) []kept {
	entries, _ := os.ReadDir(session)
	var segments []kept
	rest := kept{session: session}
	for _, e := range entries {
		info, err := e.Info()
		if err != nil {
			continue
		}
		path := filepath.Join(session, e.Name())
		base := strings.TrimSuffix(strings.TrimSuffix(path, indexEnding), textEnding)
		if base == path {
			rest.size += info.Size()
			continue
		}
		if n := len(segments); n == 0 || segments[n-1].path != base {
			segments = append(segments, kept{session: session, path: base})
		}
		k := &segments[len(segments)-1]
		k.size += info.Size()
		if info.ModTime().After(k.at) {
			k.at = info.ModTime()
		}
	}
	if n := len(segments); n > 0 {
		rest.at = segments[n-1].at
	} else if info, err := os.Stat(session); err == nil {
		rest.at = info.ModTime()
	}
	return append(segments, rest)
}

// delete deletes it. The other files of another session are deleted with its last segment; whether that happened is
// reported.
func (k kept) delete(own bool) bool {
	if k.path != "" {
		os.Remove(k.path + indexEnding) // first, because it publishes the text
		os.Remove(k.path + textEnding)
		if left, _ := filepath.Glob(filepath.Join(k.session, "*"+indexEnding)); own || len(left) > 0 {
			return false
		}
	}
	_, err := os.Stat(k.session)
	return err == nil && os.RemoveAll(k.session) == nil
}

// forget drops a segment of the book, unless lines may still be added to it.
func (b *Book) forget(path string) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.segments) < 2 || b.segments[0].path != path || len(b.segments[0].buffers) > 0 {
		return false
	}
	b.segments = append([]*segment(nil), b.segments[1:]...)
	return true
}

// sayDeleted reports what was deleted.
func (b *Book) sayDeleted(l Limits, sessions, own int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	var limit []string
	if l.Size > 0 {
		limit = append(limit, format.Bytes(float64(l.Size)))
	}
	if l.Age > 0 {
		limit = append(limit, fmt.Sprintf("%d days", int(l.Age.Hours()/24)))
	}
	beyond := fmt.Sprintf("logs are kept up to %s", strings.Join(limit, " and "))
	if sessions > 0 {
		what := "the log of 1 earlier session was deleted"
		if sessions > 1 {
			what = fmt.Sprintf("the logs of %d earlier sessions were deleted", sessions)
		}
		b.say(Neutral, what+": "+beyond)
	}
	if own > 0 {
		from := time.Unix(0, b.segments[0].blocks[0].at).Format("15:04:05")
		b.say(Stale, "what was written before "+from+" was deleted: "+beyond)
	}
}
