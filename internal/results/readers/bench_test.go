package readers

import (
	"fmt"
	"os"
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
			fmt.Sprintf("f%d.c:%d:5: warning: unused variable 'n%d' [-Wunused-variable]", i/50, i, i),
			"    int n;",
			"        ^",
		)
	}
	benchmarkReader(b, plan.Results{}, lines)
}

func benchmarkReader(b *testing.B, form plan.Results, lines []string) {
	dir := b.TempDir()
	for i := range 100 {
		if err := os.WriteFile(fmt.Sprintf("%s/f%d.c", dir, i), nil, 0o600); err != nil {
			b.Fatal(err)
		}
	}
	r, o := record.New(), Options{Dir: dir, Results: form}
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

// BenchmarkSkip reads lines of ten kinds, as a service writes them without end. Most look like findings at first
// glance; none is one.
func BenchmarkSkip(b *testing.B) {
	for _, kind := range []struct{ name, line string }{
		{"plain", "00000012 high water at the third berth"},
		{"words", "w07 line 000012 of the harbour log"},
		{"levels", "2030-05-04 12:04:31.123 INFO  tides: Skerry Holm 4.31 m above datum, request 1234 from 127.0.0.1"},
		{"errors", "2030-05-04 12:04:31.123 ERROR pump: error: valve 12 failed: connection refused"},
		{"error first", "error: berth 00000012 is taken"},
		{"JSON", `{"time":"2030-05-04T12:04:31.123Z","level":"INFO","msg":"moored","berth":12,"from":"10.0.0.7:80"}`},
		{"paths", "cmd/berths/main.go:12: request 00000012 served in 3 ms"},
		{"addresses", "GET http://tides.example:8080/berths/12?from=web.example:443 HTTP/1.1 200 12ms"},
		{"hosts", "tides.example:443: error: 00000012 refused"},
		{"letters", "Flut 00000012: Über den Prielen 潮汐 — 3 m, Ebbe ↓"},
	} {
		b.Run(kind.name, func(b *testing.B) {
			block := []byte(strings.Repeat(kind.line+"\n", 600))
			reader := New(Options{Dir: b.TempDir()}, record.New())
			for b.Loop() {
				if reader.Skip(block) {
					continue
				}
				for line := range strings.Lines(string(block)) {
					reader.Read(strings.TrimSuffix(line, "\n"))
				}
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*600), "ns/line")
		})
	}
}
