// Package exit has the exit statuses of all commands, and the error that carries one with its message. It is small
// and separate because the supervisor, the commands and the watchdog share it, and none of them may import another.
package exit

import "fmt"

// Exit statuses, the same for every command.
const (
	Fine        = 0
	Failed      = 1  // the unit or the check failed
	Usage       = 2  // wrong usage or an invalid file; nothing was started
	TimedOut    = 3  // a timeout of wait, or the project does not answer
	Crashed     = 70 // Omnivigil itself failed
	Locked      = 75 // of a watchdog: the project is already running; EX_TEMPFAIL of sysexits.h
	Interrupted = 130
)

// Outcome is an error with an exit status. Its text may be empty if everything has been printed.
type Outcome struct {
	Code int
	Text string
	err  error // the cause, or nil
}

// Unwrap returns the cause, or nil.
func (o Outcome) Unwrap() error { return o.err }

func (o Outcome) Error() string { return o.Text }

// With returns an outcome with an error.
func With(code int, err error) error { return Outcome{code, "omnivigil: " + err.Error(), err} }

// Saying returns an outcome with a text.
func Saying(code int, text string) error { return Outcome{Code: code, Text: text} }

// Quietly returns an outcome without a text.
func Quietly(code int) error { return Outcome{Code: code} }

// Refuse returns the outcome of wrong usage.
func Refuse(format string, args ...any) error {
	return Outcome{Code: Usage, Text: fmt.Sprintf(format, args...)}
}
