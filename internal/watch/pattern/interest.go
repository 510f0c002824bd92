package pattern

import "time"

// Interest is a set of files that a listener wants to hear of.
type Interest struct {
	Key      string   // names it in events
	Rules    []Rule   // the first whose pattern matches a path decides
	Ignore   []string // globs that keep paths out, files and whole folders
	Debounce time.Duration
	// Unignored has it hear also of what version control ignores.
	Unignored bool
	// SkipUnchanged keeps quiet about files that hold what they held before.
	SkipUnchanged bool
	// Spare interests hear only of files that no other interest does. A bounded number of
	// folders is watched for them alone.
	Spare bool
	// Poll, if not 0, is how often its folders are looked at, instead of being
	// told by the system.
	Poll time.Duration
}

// Rule is one pattern of an interest: a glob relative to the root, in which
// {name} captures one path element and {name...} any number, and in which a
// folder's name means all below it.
type Rule struct {
	Pattern string
	Out     bool // paths that match are not told
}
