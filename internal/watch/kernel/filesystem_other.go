//go:build !linux

package kernel

// SharedFileSystem recognizes no shared file systems on this system: polling has to be set.
func SharedFileSystem(string) (kind string, shared bool) { return "", false }
