//go:build !linux

package kernel

import (
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"github.com/fsnotify/fsnotify"
)

// portable is the source of the systems that fsnotify supports: kqueue on macOS and the BSDs, ReadDirectoryChangesW
// on Windows.
type portable struct {
	watcher *fsnotify.Watcher
	out     chan []Notice
	done    chan struct{}

	mu    sync.Mutex
	ids   map[string]ID // by the real path
	paths map[ID]string
	last  ID
}

func Open() (Source, error) {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, fmt.Errorf("ask the system for file events: %w", err)
	}
	k := &portable{watcher: w, out: make(chan []Notice, 256), done: make(chan struct{}),
		ids: map[string]ID{}, paths: map[ID]string{}}
	go k.read()
	return k, nil
}

func (k *portable) Add(path string) (ID, error) {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return 0, err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if id, known := k.ids[real]; known {
		return id, nil
	}
	if err := k.watcher.Add(real); err != nil {
		// kqueue opens every file that it watches.
		if errors.Is(err, syscall.EMFILE) || errors.Is(err, syscall.ENFILE) || errors.Is(err, syscall.ENOSPC) {
			return 0, ErrLimit
		}
		return 0, err
	}
	k.last++
	k.ids[real], k.paths[k.last] = k.last, real
	return k.last, nil
}

func (k *portable) Remove(id ID) {
	k.mu.Lock()
	defer k.mu.Unlock()
	real, known := k.paths[id]
	if !known {
		return
	}
	delete(k.ids, real)
	delete(k.paths, id)
	k.watcher.Remove(real) // the system may have removed it
}

// late is how long these systems may take to report an event.
const late = 200 * time.Millisecond

func (k *portable) CatchUp() func() bool {
	asked := time.Now()
	return func() bool { return time.Since(asked) > late }
}

func (k *portable) Quiet() bool { return len(k.out) == 0 }

func (k *portable) Failure() error { return errors.New("the system reports no more file events") }

func (k *portable) Batches() <-chan []Notice { return k.out }

func (k *portable) Close() {
	close(k.done)
	k.watcher.Close()
}

func (k *portable) read() {
	defer close(k.out)
	for {
		var batch []Notice
		select {
		case ev, ok := <-k.watcher.Events:
			if !ok {
				return
			}
			batch = k.notices(ev)
		case _, ok := <-k.watcher.Errors:
			if !ok {
				return
			}
			batch = []Notice{{What: Overflowed}}
		}
		if len(batch) == 0 {
			continue
		}
		select {
		case k.out <- batch:
		case <-k.done:
			return
		}
	}
}

// notices returns which watched directory an event is about: the one with the name, and the directory itself if it is
// watched, too.
func (k *portable) notices(ev fsnotify.Event) []Notice {
	k.mu.Lock()
	defer k.mu.Unlock()
	var batch []Notice
	if id, known := k.ids[ev.Name]; known {
		n := Notice{ID: id, What: Altered}
		if ev.Has(fsnotify.Remove) || ev.Has(fsnotify.Rename) {
			n.What = SelfMoved
		}
		batch = append(batch, n)
	}
	if id, known := k.ids[filepath.Dir(ev.Name)]; known {
		n := Notice{ID: id, Name: filepath.Base(ev.Name)}
		if ev.Has(fsnotify.Create) {
			n.What |= Appeared
		}
		if ev.Has(fsnotify.Write) {
			n.What |= Wrote
		}
		if ev.Has(fsnotify.Chmod) {
			n.What |= Altered
		}
		batch = append(batch, n)
	}
	return batch
}
