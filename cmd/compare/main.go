// Command compare compares the benchmark results of two versions, which were measured alternately: it prints ratios
// with their spread and exits with status 1 if something has become worse beyond the noise. The files are in Go's
// benchmark format (golang.org/design/14313-benchmark-format). It is for work on omnivigil and not a part of it;
// scripts/bench calls it.
package main

import (
	"cmp"
	"flag"
	"fmt"
	"os"
)

func main() {
	flag.Usage = func() { fmt.Fprintln(os.Stderr, "Usage: compare OLD NEW") }
	flag.Parse()
	if flag.NArg() != 2 {
		flag.Usage()
		os.Exit(2)
	}
	old, err := read(flag.Arg(0))
	now, nowErr := read(flag.Arg(1))
	if err := cmp.Or(err, nowErr); err != nil {
		fmt.Fprintln(os.Stderr, "compare:", err)
		os.Exit(2)
	}
	if report(os.Stdout, compare(old, now)) > 0 {
		os.Exit(1)
	}
}
