package lsp

import (
	"errors"
	"io"
	"sync"
)

// maxWaiting is how many bytes an editor may leave unread before the conversation is ended.
const maxWaiting = 64 << 20

// outbox is a stream whose writes never wait for the other side. Otherwise an editor that writes to a server which
// writes to it, while neither reads, would wait forever.
type outbox struct {
	io.ReadWriteCloser

	mu      sync.Mutex
	waiting []byte
	failed  error
	more    chan struct{} // has a token when something is waiting
	closed  chan struct{}
	close   sync.Once
}

func newOutbox(stream io.ReadWriteCloser) *outbox {
	o := &outbox{ReadWriteCloser: stream, more: make(chan struct{}, 1), closed: make(chan struct{})}
	go o.send()
	return o
}

// Write leaves data for sending. It reports errors of earlier writes.
func (o *outbox) Write(data []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.failed != nil {
		return 0, o.failed
	}
	if len(o.waiting)+len(data) > maxWaiting {
		o.failed = errors.New("the editor does not read what it is sent")
		return 0, o.failed
	}
	o.waiting = append(o.waiting, data...)
	select {
	case o.more <- struct{}{}:
	default:
	}
	return len(data), nil
}

// Close closes the stream and gives up what is waiting.
func (o *outbox) Close() error {
	o.close.Do(func() { close(o.closed) })
	return o.ReadWriteCloser.Close()
}

func (o *outbox) send() {
	for {
		select {
		case <-o.more:
		case <-o.closed:
			return
		}
		o.mu.Lock()
		data := o.waiting
		o.waiting = nil
		o.mu.Unlock()
		if _, err := o.ReadWriteCloser.Write(data); err != nil {
			o.mu.Lock()
			o.failed = err
			o.mu.Unlock()
			return
		}
	}
}
