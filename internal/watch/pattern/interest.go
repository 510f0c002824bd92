package pattern

import "time"

// Interest is a set of files that a listener wants to know about.
type Interest struct {
	Key      string   // its name in events
	Rules    []Rule   // the first whose pattern matches a path counts
	Ignore   []string // globs that exclude paths, files and whole directories
	Debounce time.Duration
	// Unignored includes what version control ignores.
	Unignored bool
	// SkipUnchanged skips files whose contents are the same as before.
	SkipUnchanged bool
	// Spare interests get only files that affect no other interest. A limited number of directories is watched only
	// for them.
	Spare bool
	// Poll, if not 0, is how often its directories are polled, instead of waiting for events.
	Poll time.Duration
}

// Rule is one pattern of an interest: a glob relative to the root, in which {name} captures one path element and
// {name...} any number, and in which the name of a directory means everything below it.
type Rule struct {
	Pattern string
	Out     bool // paths that match are excluded
}
