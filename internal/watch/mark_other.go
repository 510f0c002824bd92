//go:build !linux && !darwin

package watch

import "io/fs"

func markOf(info fs.FileInfo) mark {
	return mark{size: info.Size(), modified: info.ModTime().UnixNano(), links: 1}
}
