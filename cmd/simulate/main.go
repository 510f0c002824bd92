// Command simulate checks the rules of the engine with random projects, for as long as one likes, or plays one of them
// with a readable account of every event and order. It is for work on the engine and
// not a part of omnivigil.
package main

import (
	"flag"
	"fmt"
	"os"
	"strings"

	"omnivigil/internal/engine/simulate/random"
)

func main() {
	from := flag.Uint64("from", 0, "the first seed")
	seeds := flag.Int("seeds", 1, "number of seeds")
	steps := flag.Int("steps", 0, "number of steps, over as many seeds as needed")
	story := flag.Bool("story", false, "print every event and order")
	flag.Parse()
	played := 0
	for seed := *from; seed < *from+uint64(*seeds) || played < *steps; seed++ {
		r := random.Play(seed, *story)
		played += r.Steps
		if *story {
			fmt.Println(strings.Join(r.Story, "\n"))
		}
		if len(r.Broken) > 0 {
			fmt.Fprintf(os.Stderr, "seed %d, %d units:\n%s\n", seed, r.Units, strings.Join(r.Broken, "\n"))
			os.Exit(1)
		}
	}
	fmt.Printf("%d steps, no rule broken.\n", played)
}
