//go:build !linux

package watch

import (
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"github.com/fsnotify/fsnotify"
)

// portable is the kernel interface of the systems that fsnotify knows: kqueue on
// macOS and the BSDs, ReadDirectoryChangesW on Windows.
type portable struct {
	watcher *fsnotify.Watcher
	out     chan []notice
	done    chan struct{}

	mu    sync.Mutex
	ids   map[string]watchID // by the real path
	paths map[watchID]string
	last  watchID
}

func openKernel() (kernel, error) {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, fmt.Errorf("ask the system for file events: %w", err)
	}
	k := &portable{watcher: w, out: make(chan []notice, 256), done: make(chan struct{}),
		ids: map[string]watchID{}, paths: map[watchID]string{}}
	go k.read()
	return k, nil
}

func (k *portable) add(path string) (watchID, error) {
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
			return 0, errLimit
		}
		return 0, err
	}
	k.last++
	k.ids[real], k.paths[k.last] = k.last, real
	return k.last, nil
}

func (k *portable) remove(id watchID) {
	k.mu.Lock()
	defer k.mu.Unlock()
	real, known := k.paths[id]
	if !known {
		return
	}
	delete(k.ids, real)
	delete(k.paths, id)
	k.watcher.Remove(real) // the system may have done so itself
}

// late is how long these systems may take to tell of something.
const late = 200 * time.Millisecond

func (k *portable) catchUp() func() bool {
	asked := time.Now()
	return func() bool { return time.Since(asked) > late }
}

func (k *portable) quiet() bool { return len(k.out) == 0 }

func (k *portable) failure() error { return errors.New("the system tells of no files any more") }

func (k *portable) batches() <-chan []notice { return k.out }

func (k *portable) close() {
	close(k.done)
	k.watcher.Close()
}

func (k *portable) read() {
	defer close(k.out)
	for {
		var batch []notice
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
			batch = []notice{{what: overflowed}}
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

// notices says which watched folder an event is about: the one that holds the
// name, and the folder itself where it is watched too.
func (k *portable) notices(ev fsnotify.Event) []notice {
	k.mu.Lock()
	defer k.mu.Unlock()
	var batch []notice
	if id, known := k.ids[ev.Name]; known {
		n := notice{id: id, what: altered}
		if ev.Has(fsnotify.Remove) || ev.Has(fsnotify.Rename) {
			n.what = selfMoved
		}
		batch = append(batch, n)
	}
	if id, known := k.ids[filepath.Dir(ev.Name)]; known {
		n := notice{id: id, name: filepath.Base(ev.Name)}
		if ev.Has(fsnotify.Create) {
			n.what |= appeared
		}
		if ev.Has(fsnotify.Write) {
			n.what |= wrote
		}
		if ev.Has(fsnotify.Chmod) {
			n.what |= altered
		}
		batch = append(batch, n)
	}
	return batch
}
