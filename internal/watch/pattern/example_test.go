package pattern_test

import (
	"fmt"

	"omnivigil/internal/watch/pattern"
)

func ExampleMatches() {
	for _, file := range []string{"cmd/berths/main.go", "cmd/berths", "docs/berths.md"} {
		fmt.Println(file, pattern.Matches("/ferries", "cmd/**/*.go", file))
	}
	fmt.Println(pattern.Matches("/ferries", "build", "build/fares.json"), "a directory stands for everything in it")
	// Output:
	// cmd/berths/main.go true
	// cmd/berths false
	// docs/berths.md false
	// true a directory stands for everything in it
}
