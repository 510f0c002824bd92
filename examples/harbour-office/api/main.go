// The harbour office's API: which vessel lies where.
package main

import (
	"context"
	"encoding/json"
	"fmt"
	"log"
	"net/http"
	"os"

	"github.com/jackc/pgx/v5/pgxpool"
)

type berth struct {
	Harbour string `json:"harbour"`
	Number  int    `json:"number"`
	Vessel  string `json:"vessel"`
}

func main() {
	url := fmt.Sprintf("postgres://office:%s@127.0.0.1:%s/postgres", os.Getenv("DB_PASSWORD"), os.Getenv("DB_PORT"))
	pool, err := pgxpool.New(context.Background(), url)
	if err != nil {
		log.Fatal(err)
	}
	http.HandleFunc("/health", func(w http.ResponseWriter, r *http.Request) {
		if err := pool.Ping(r.Context()); err != nil {
			http.Error(w, err.Error(), http.StatusServiceUnavailable)
		}
	})
	http.HandleFunc("/berths", func(w http.ResponseWriter, r *http.Request) {
		berths, err := berths(r.Context(), pool)
		if err != nil {
			log.Print(err)
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		w.Header().Set("X-Office", greeting)
		json.NewEncoder(w).Encode(berths)
	})
	log.Print("the API answers on port ", os.Getenv("PORT"))
	log.Fatal(http.ListenAndServe("127.0.0.1:"+os.Getenv("PORT"), nil))
}

func berths(ctx context.Context, pool *pgxpool.Pool) ([]berth, error) {
	rows, err := pool.Query(ctx, "select harbour, number, vessel from berths order by harbour, number")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []berth
	for rows.Next() {
		var b berth
		if err := rows.Scan(&b.Harbour, &b.Number, &b.Vessel); err != nil {
			return nil, err
		}
		all = append(all, b)
	}
	return all, rows.Err()
}
