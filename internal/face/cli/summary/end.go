package summary

import (
	"omnivigil/internal/api"
	"omnivigil/internal/text/format"
)

// End describes how a unit has ended, or why it has not started.
func End(u *api.Unit) string {
	switch {
	case u.State == api.Done && u.Run.Restored:
		return "done, restored from " + format.RunOf(u.Run.MadeBy, u.Run.ReusedAt.Format("2 Jan 15:04"))
	case u.State == api.Done && !u.Run.ReusedAt.IsZero():
		return "done, reused from " + format.RunOf(u.Run.MadeBy, u.Run.ReusedAt.Format("2 Jan 15:04"))
	case u.State.Broken() && u.Run.Problem != "":
		return string(u.State) + " (" + u.Run.Problem + ")"
	case u.State.Broken() && u.Report.Trouble != "" && u.Report.Run == u.Run.Number:
		return string(u.State) + " (" + u.Report.Trouble + ")"
	case u.State.Broken() && u.Run.Exit != nil:
		return string(u.State) + " (" + u.Run.Exit.Text + ")"
	case u.Run.Number == 0 && u.Why != "":
		return "not run: " + u.Why
	case u.Run.Number == 0:
		return "not run"
	case u.State == api.Ready:
		return "was ready"
	}
	return string(u.State)
}

// Took is how long its last run took until it was ready or over; empty: it did not run.
func Took(u *api.Unit) string {
	switch r := u.Run; {
	case r.Number == 0 || !r.ReusedAt.IsZero():
		return ""
	case !r.EndedAt.IsZero():
		return format.Duration(r.EndedAt.Sub(r.OrderedAt))
	case !r.ReadyAt.IsZero():
		return format.Duration(r.ReadyAt.Sub(r.OrderedAt))
	}
	return ""
}
