// Package plural says how many there are of something.
package plural

import "fmt"

// Count returns a number with the word for what is counted: "1 folder", "3 folders".
func Count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
