package demo

import (
	"context"
	"encoding/json"
	"fmt"
	"html"
	"io"
	"log/slog"
	"math"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"
)

// tides tells how deep the water is in each harbour.
func tides(ctx context.Context) error {
	var model struct {
		Period  duration
		Harbour map[string]struct{ Mean, Range float64 }
	}
	work(ctx, 250*time.Millisecond)
	if err := readTOML("tides/harbours.toml", &model); err != nil {
		return err
	}
	if model.Period.Duration <= 0 {
		return fmt.Errorf("tides/harbours.toml:2: the period must be longer than nothing")
	}
	height := func(harbour string, at time.Time) (float64, bool) {
		h, ok := model.Harbour[slug(harbour)]
		turn := float64(at.Unix()) / model.Period.Seconds()
		return h.Mean + h.Range/2*math.Cos(2*math.Pi*turn), ok
	}
	mux := http.NewServeMux()
	mux.HandleFunc("/health", healthy)
	mux.HandleFunc("/height", func(w http.ResponseWriter, r *http.Request) {
		metres, ok := height(r.URL.Query().Get("harbour"), time.Now())
		if !ok {
			http.Error(w, "no such harbour", http.StatusNotFound)
			return
		}
		fmt.Fprintf(w, "%.2f\n", metres)
	})
	go every(ctx, 4*time.Second, func(int) {
		metres, _ := height("skerry-holm", time.Now())
		say("Skerry Holm %s%.2f m%s above datum", cyan, metres, plain)
	})
	return serve(ctx, mux, fmt.Sprintf("%d harbours, a tide of %s", len(model.Harbour), model.Period))
}

func slug(name string) string { return strings.ReplaceAll(strings.ToLower(name), " ", "-") }

// berths decides which ship may moor where; it asks tides how deep the water is.
func berths(ctx context.Context) error {
	var rules struct {
		UnderKeel float64 `toml:"under_keel"`
		Berths    int
		Every     duration
		Draught   map[string]float64
	}
	work(ctx, 350*time.Millisecond)
	if err := readTOML("berths/rules.toml", &rules); err != nil {
		return err
	}
	if rules.Berths < 1 {
		return fmt.Errorf("berths/rules.toml:3: a harbour without berths")
	}
	sailings, err := readTimetable("timetable/timetable.csv")
	if err != nil {
		return err
	}
	mux := http.NewServeMux()
	mux.HandleFunc("/health", healthy)
	mux.HandleFunc("/rules", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, "%.2f m under keel, %d berths\n", rules.UnderKeel, rules.Berths)
	})
	mux.HandleFunc("/next", func(w http.ResponseWriter, _ *http.Request) {
		s := sailings[int(time.Now().Unix())%len(sailings)]
		fmt.Fprintf(w, "%s to %s\n", s.vessel, s.to)
	})
	go every(ctx, rules.Every.Duration, func(n int) {
		s := sailings[n%len(sailings)]
		answer, err := ask(ctx, os.Getenv("TIDES")+"/height?harbour="+url.QueryEscape(s.to))
		if err != nil {
			say("%stides does not answer: %v%s", yellow, err, plain)
			return
		}
		metres, _ := strconv.ParseFloat(answer, 64)
		if under := metres - rules.Draught[s.vessel]; under < rules.UnderKeel {
			say("%s%s waits off %s: %.2f m under keel%s", yellow, s.vessel, s.to, under, plain)
		} else {
			say("%s to berth %s%d%s at %s, %.2f m under keel", s.vessel, green, n%rules.Berths+1, plain, s.to, under)
		}
	})
	return serve(ctx, mux, fmt.Sprintf("%d sailings, %.2f m must stay under a keel", len(sailings), rules.UnderKeel))
}

// tickets is the web front: pages, a style sheet and the compiled fares.
func tickets(ctx context.Context) error {
	var table []fare
	data, err := os.ReadFile("build/fares.json")
	if err != nil {
		return err
	}
	if err := json.Unmarshal(data, &table); err != nil {
		return fmt.Errorf("build/fares.json: %w", err)
	}
	work(ctx, 400*time.Millisecond)
	source, err := os.ReadFile("tickets/pages/index.html")
	if err != nil {
		return err
	}
	page := priced(string(source), table)
	mux := http.NewServeMux()
	mux.HandleFunc("/health", healthy)
	mux.HandleFunc("/style.css", func(w http.ResponseWriter, r *http.Request) {
		http.ServeFile(w, r, "tickets/style.css")
	})
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		start := time.Now()
		io.WriteString(w, page) // the customer may be gone
		say("GET %s %s200%s %s%.1f ms%s", r.URL.Path, green, plain, dim, time.Since(start).Seconds()*1000, plain)
	})
	home := "http://127.0.0.1:" + os.Getenv("PORT") + "/"
	go every(ctx, 5*time.Second, func(n int) {
		if n > 0 { // the first customers come later
			ask(ctx, home)
		}
	})
	return serve(ctx, mux, fmt.Sprintf("selling tickets for %d routes on %s", len(table), home))
}

// priced repeats the lines of a page that name a fare, once for each fare.
func priced(page string, table []fare) string {
	var b strings.Builder
	for line := range strings.Lines(page) {
		if !strings.Contains(line, "{from}") {
			b.WriteString(line)
			continue
		}
		for _, f := range table {
			strings.NewReplacer(
				"{from}", html.EscapeString(f.From), "{to}", html.EscapeString(f.To),
				"{single}", fmt.Sprintf("%.2f", f.Single), "{return}", fmt.Sprintf("%.2f", f.Return),
			).WriteString(&b, line)
		}
	}
	return b.String()
}

// manifest writes passenger lists. Its output is JSON, one object a line.
func manifest(ctx context.Context) error {
	var worker struct {
		Batch int
		Every duration
		Level slog.Level
	}
	if err := readTOML("manifest/worker.toml", &worker); err != nil {
		return err
	}
	log := slog.New(slog.NewJSONHandler(os.Stdout, &slog.HandlerOptions{Level: worker.Level}))
	log.Info("worker is ready", "batch", worker.Batch)
	every(ctx, worker.Every.Duration, func(n int) {
		sailing, err := ask(ctx, os.Getenv("BERTHS")+"/next")
		if err != nil {
			log.Warn("berths does not answer", "error", err.Error())
			return
		}
		log.Info("list written", "sailing", sailing, "passengers", worker.Batch-n%3)
	})
	return nil
}
