// Package exit holds the exit statuses of all commands, and the error that carries one with what is printed. It is
// small and apart because the supervisor, the commands and the watchdog share it, and none of them may import
// another.
package exit

import "fmt"

// Exit codes, the same for every command.
const (
	Fine        = 0
	Failed      = 1  // the unit or the check failed
	Usage       = 2  // wrong usage or a broken file; nothing was started
	TimedOut    = 3  // the time of wait was up, or the project does not answer
	Crashed     = 70 // Omnivigil itself did
	Locked      = 75 // of a watchdog: the project is already running; EX_TEMPFAIL of sysexits.h
	Interrupted = 130
)

// Outcome is an error that carries its own exit code. Its text may be empty when
// everything has been said already.
type Outcome struct {
	Code int
	Text string
	err  error // that it is about, or nil
}

// Unwrap returns the error that the outcome is about, or nil.
func (o Outcome) Unwrap() error { return o.err }

func (o Outcome) Error() string { return o.Text }

// With returns an outcome that says what went wrong.
func With(code int, err error) error { return Outcome{code, "omnivigil: " + err.Error(), err} }

// Saying returns an outcome with a text.
func Saying(code int, text string) error { return Outcome{Code: code, Text: text} }

// Quietly returns an outcome of which everything has been said.
func Quietly(code int) error { return Outcome{Code: code} }

// Refuse returns the outcome of wrong usage.
func Refuse(format string, args ...any) error {
	return Outcome{Code: Usage, Text: fmt.Sprintf(format, args...)}
}
