package demo

import (
	"bufio"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

type fare struct {
	From, To                string
	Single, Return, Bicycle float64
}

// fares compiles fares/fares.csv into build/fares.json.
func fares(ctx context.Context) error {
	const source, target = "fares/fares.csv", "build/fares.json"
	rows, err := readCSV(source, 5)
	if err != nil {
		return err
	}
	var table []fare
	for i, row := range rows {
		work(ctx, 150*time.Millisecond)
		f := fare{From: row[0], To: row[1]}
		for column, into := range map[int]*float64{2: &f.Single, 3: &f.Return, 4: &f.Bicycle} {
			if *into, err = strconv.ParseFloat(row[column], 64); err != nil {
				return fmt.Errorf("%s:%d:%d: error: %q is not a price", source, i+2, column+1, row[column])
			}
		}
		say("%s%s to %s%s %.2f", dim, f.From, f.To, plain, f.Single)
		table = append(table, f)
	}
	if ctx.Err() != nil {
		return errors.New("interrupted")
	}
	data, err := json.MarshalIndent(table, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(target), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(target, data, 0o644); err != nil {
		return err
	}
	say("%d fares written to %s", len(table), target)
	return nil
}

// timetable reports sailings that are impossible.
func timetable(ctx context.Context) error {
	const source = "timetable/timetable.csv"
	sailings, err := readTimetable(source)
	if err != nil {
		return err
	}
	free := map[string]sailing{}
	for i, s := range sailings {
		work(ctx, 60*time.Millisecond)
		before, sailed := free[s.vessel]
		switch {
		case !s.arrives.After(s.leaves):
			return fmt.Errorf("%s:%d:5: error: %s arrives before it leaves", source, i+2, s.vessel)
		case sailed && before.arrives.After(s.leaves):
			return fmt.Errorf(
				"%s:%d:4: error: %s leaves %s while still on the way there",
				source,
				i+2,
				s.vessel,
				s.from,
			)
		case sailed && before.to != s.from:
			return fmt.Errorf("%s:%d:2: error: %s leaves %s but lies at %s", source, i+2, s.vessel, s.from, before.to)
		}
		free[s.vessel] = s
	}
	say("%d sailings of %d vessels %sall possible%s", len(sailings), len(free), green, plain)
	return nil
}

// publish asks before it posts the timetable at the piers.
func publish(ctx context.Context) error {
	sailings, err := readTimetable("timetable/timetable.csv")
	if err != nil {
		return err
	}
	piers := map[string]int{}
	for _, s := range sailings {
		piers[s.from]++
	}
	for _, pier := range slices.Sorted(maps.Keys(piers)) {
		say("%2d from %s", piers[pier], pier)
	}
	fmt.Printf("post the timetable at %d piers? [y/N] ", len(piers))
	answer := make(chan string, 1)
	go func() {
		line, _ := bufio.NewReader(os.Stdin).ReadString('\n')
		answer <- strings.ToLower(strings.TrimSpace(line))
	}()
	select {
	case <-ctx.Done():
		return errors.New("interrupted")
	case said := <-answer:
		if said != "y" && said != "yes" {
			say("nothing was posted")
			return nil
		}
	}
	for _, pier := range slices.Sorted(maps.Keys(piers)) {
		work(ctx, 200*time.Millisecond)
		say("%sposted%s at %s", green, plain, pier)
	}
	return nil
}

type sailing struct {
	vessel, from, to string
	leaves, arrives  time.Time
}

func readTimetable(source string) ([]sailing, error) {
	rows, err := readCSV(source, 5)
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, fmt.Errorf("%s: no sailing at all", source)
	}
	sailings := make([]sailing, len(rows))
	for i, row := range rows {
		s := sailing{vessel: row[0], from: row[1], to: row[2]}
		for column, into := range map[int]*time.Time{3: &s.leaves, 4: &s.arrives} {
			if *into, err = time.Parse("15:04", row[column]); err != nil {
				return nil, fmt.Errorf("%s:%d:%d: error: %q is not a time of day", source, i+2, column+1, row[column])
			}
		}
		sailings[i] = s
	}
	return sailings, nil
}

// readCSV returns the rows below the heading.
func readCSV(source string, columns int) ([][]string, error) {
	f, err := os.Open(source)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	r := csv.NewReader(f)
	r.FieldsPerRecord = columns
	rows, err := r.ReadAll()
	var wrong *csv.ParseError
	if errors.As(err, &wrong) {
		return nil, fmt.Errorf("%s:%d:%d: error: %w", source, wrong.Line, wrong.Column, wrong.Err)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", source, err)
	}
	return rows[min(1, len(rows)):], nil
}
