package logbook

import (
	"fmt"
	"io"
	"os"
)

// column is an append-only file, with what has not been written to it yet in memory.
type column struct {
	path    string
	file    *os.File // nil until it could be made
	written int64
	tail    []byte
}

// fullTail is how many bytes are worth a write.
const fullTail = 32 << 10

func (c *column) size() int64 { return c.written + int64(len(c.tail)) }

func (c *column) isFull() bool { return len(c.tail) >= fullTail }

func (c *column) add(p []byte) { c.tail = append(c.tail, p...) }

// flush writes what is in memory as far as the disk takes it.
func (c *column) flush() error {
	if c.file == nil {
		f, err := os.OpenFile(c.path, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
		if err != nil {
			return err
		}
		c.file = f
	}
	if len(c.tail) == 0 {
		return nil
	}
	n, err := c.file.WriteAt(c.tail, c.written)
	c.written += int64(n)
	if c.tail = c.tail[:copy(c.tail, c.tail[n:])]; cap(c.tail) > 8*fullTail && len(c.tail) < fullTail {
		c.tail = append([]byte(nil), c.tail...)
	}
	return err
}

// readAt reads what is at an offset, from the file and from memory.
func (c *column) readAt(p []byte, offset int64) error {
	if onDisk := min(max(c.written-offset, 0), int64(len(p))); onDisk > 0 {
		if _, err := c.file.ReadAt(p[:onDisk], offset); err != nil && err != io.EOF {
			return fmt.Errorf("read the log: %w", err)
		}
		p, offset = p[onDisk:], offset+onDisk
	}
	if len(p) > 0 {
		copy(p, c.tail[offset-c.written:])
	}
	return nil
}

func (c *column) close() error {
	if c.file == nil {
		return nil
	}
	return c.file.Close()
}
