package probe

import (
	"context"
	"errors"
	"net"
	"os"
	"syscall"
)

// plainly turns the library's error of a failed connection into a few words.
func plainly(err error) error {
	var dns *net.DNSError
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return errors.New("connection refused")
	case errors.Is(err, syscall.ECONNRESET):
		return errors.New("connection reset")
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, context.DeadlineExceeded):
		return errors.New("no answer within " + tryLimit.String())
	case errors.As(err, &dns):
		return errors.New("no such host: " + dns.Name)
	}
	return err
}
