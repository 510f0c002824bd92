package format_test

import (
	"fmt"
	"time"

	"omnivigil/internal/text/format"
)

func ExampleDuration() {
	for _, d := range []time.Duration{410 * time.Millisecond, 12300 * time.Millisecond, 245 * time.Second,
		127 * time.Minute} {
		fmt.Println(format.Duration(d))
	}
	// Output:
	// 0.41 s
	// 12.3 s
	// 4 min 05 s
	// 2 h 07 min
}

func ExampleBytes() {
	for _, n := range []float64{512, 999.6, 3400, 12_345_678, 999_999_999, 4e12} {
		fmt.Println(format.Bytes(n))
	}
	// Output:
	// 512 B
	// 1.0 kB
	// 3.4 kB
	// 12 MB
	// 1.0 GB
	// 4.0 TB
}

func ExampleList() {
	fmt.Println(format.List([]string{"fares.csv"}))
	fmt.Println(format.List([]string{"fares.csv", "tides.csv"}))
	fmt.Println(format.List([]string{"fares.csv", "tides.csv", "berths.csv", "routes.csv"}))
	// Output:
	// fares.csv
	// fares.csv and tides.csv
	// fares.csv, tides.csv and 2 more
}

func ExampleTyped() {
	fmt.Println(format.Typed([]string{"go", "test", "-run", "^(TestTide|TestFare)$", "./..."}))
	// Output: go test -run '^(TestTide|TestFare)$' ./...
}
