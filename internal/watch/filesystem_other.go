//go:build !linux

package watch

// sharedFileSystem knows no shared file systems on this system: there, poll has to
// be asked for.
func sharedFileSystem(string) (kind string, shared bool) { return "", false }
