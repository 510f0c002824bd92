package readers

import (
	"fmt"
	"strings"
	"testing"

	"omnivigil/internal/plan"
	"omnivigil/internal/results/record"
)

// BenchmarkGoJSON reads a run of ten thousand tests in the format of go test -json, and BenchmarkFindings one of five
// thousand findings, each against a record of the previous run.
func BenchmarkGoJSON(b *testing.B) {
	var lines []string
	for i := range 10_000 {
		at := fmt.Sprintf(`"Package":"ferries/p%d","Test":"Test%d"`, i/100, i)
		action := "pass"
		if i%100 == 7 {
			action = "fail"
		}
		lines = append(
			lines,
			`{"Time":"2030-05-04T12:00:00Z","Action":"run",`+at+`}`,
			`{"Time":"2030-05-04T12:00:00Z","Action":"output",`+at+`,"Output":"    berths_test.go:9: berths = 4, `+
				`want 3\n"}`,
			`{"Time":"2030-05-04T12:00:00Z","Action":"`+action+`",`+at+`,"Elapsed":0.01}`,
		)
	}
	benchmarkReader(b, plan.Results{Form: plan.ResultsAuto}, lines)
}

func BenchmarkFindings(b *testing.B) {
	var lines []string
	for i := range 5_000 {
		lines = append(
			lines,
			fmt.Sprintf("berths/f%d.c:%d:5: warning: unused variable 'n%d' [-Wunused-variable]", i/50, i, i),
			"    int n;",
			"        ^",
		)
	}
	benchmarkReader(b, plan.Results{}, lines)
}

func benchmarkReader(b *testing.B, form plan.Results, lines []string) {
	r, o := record.New(), Options{Dir: b.TempDir(), Results: form}
	run := 0
	for b.Loop() {
		run++
		r.Begin(record.Run{Number: run, At: midday})
		reader := New(o, r)
		for _, line := range lines {
			reader.Read(line)
		}
		reader.End(true)
		r.End(midday, true, true)
		r.Sum()
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*len(lines)), "ns/line")
}

// BenchmarkMayMatter reads lines of a log, as a service writes them without end.
func BenchmarkMayMatter(b *testing.B) {
	block := []byte(
		strings.Repeat(
			"2030-05-04 12:04:31.123 INFO  tides: Skerry Holm 4.31 m above datum, request 1234 from 127.0.0.1\n",
			600,
		),
	)
	reader := New(Options{Dir: b.TempDir()}, record.New())
	for b.Loop() {
		if reader.MayMatter(block) {
			b.Fatal("nothing in it matters")
		}
		reader.Skip(block)
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*600), "ns/line")
}
