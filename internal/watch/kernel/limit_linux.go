package kernel

import (
	"fmt"
	"os"
	"strconv"
	"strings"

	"omnivigil/internal/text/format"
)

// LimitText tells that directories have no watch, and how to raise the limit.
func LimitText(folders int) string {
	const watches, instances = "fs.inotify.max_user_watches", "fs.inotify.max_user_instances"
	return fmt.Sprintf(
		"the system has no watch left for %s: looked at every second instead. To raise the limits: sudo sysctl -w "+
			"%s=%d %s=%d",
		format.Count(
			folders,
			"directory",
		),
		watches,
		max(524288, 4*limit("max_user_watches")),
		instances,
		max(1024, 4*limit("max_user_instances")),
	)
}

// limit returns a limit of inotify(7), or 0.
func limit(name string) int {
	text, _ := os.ReadFile("/proc/sys/fs/inotify/" + name)
	n, _ := strconv.Atoi(strings.TrimSpace(string(text)))
	return n
}
