//go:build !linux

package kernel

import (
	"fmt"

	"omnivigil/internal/text/format"
)

// LimitText tells that directories have no watch, and how to raise the limit.
func LimitText(folders int) string {
	return fmt.Sprintf(
		"the system has no watch left for %s: looked at every second instead. To raise the limit, before the next "+
			"start: ulimit -n 65536",
		format.Count(folders, "directory"),
	)
}
