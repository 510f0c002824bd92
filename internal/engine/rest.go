package engine

import "slices"

// AtRest reports whether units, or without any all units, are at rest: only a save, a request, or a process can set
// them off. A pause before a retry is not rest, also for units that wait for that one, which chain names. The command
// wait waits for rest, and a verdict holds from then on.
func (s *Snapshot) AtRest(units, chain []string) bool {
	all := len(units) == 0
	if all && s.Verdict.Word == VerdictUpdating || s.SettingsPending {
		return false
	}
	return !slices.ContainsFunc(s.Units, func(u *Unit) bool {
		retries := u.State == Crashed && !u.RetryAt.IsZero()
		return u.Moving && (all || slices.Contains(units, u.Name)) ||
			retries && (all || slices.Contains(chain, u.Name))
	})
}
