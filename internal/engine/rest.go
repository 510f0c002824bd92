package engine

import "slices"

// AtRest reports whether units, or all without any, will not move by themselves any more: what is left can only be
// set off by a save, a request, or a process. A pause before a retry is a movement, also of what the units wait for,
// which chain names together with them. This is what wait waits for, and when a verdict holds.
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
