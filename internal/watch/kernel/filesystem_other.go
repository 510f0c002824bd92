//go:build !linux

package kernel

// SharedFileSystem knows no shared file systems on this system: there, poll has to
// be asked for.
func SharedFileSystem(string) (kind string, shared bool) { return "", false }
