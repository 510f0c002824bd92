package settings_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"omnivigil/internal/plan/settings"
)

// Every problem of a file is reported at once, with its location and the closest valid name.
func ExampleRead() {
	dir, err := os.MkdirTemp("", "ferries")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "omnivigil.toml")
	os.WriteFile(file, []byte("[service.berths]\nrun = \"go run ./cmd/berths\"\nneds = [\"tides\"]\n"), 0o600)
	_, err = settings.Read(file)
	fmt.Println(strings.ReplaceAll(err.Error(), dir+"/", ""))

	os.WriteFile(file, []byte("[service.berths]\nrun = \"go run ./cmd/berths\"\nwatch = [\"cmd/**/*.go\"]\n"), 0o600)
	p, err := settings.Read(file)
	if err != nil {
		panic(err)
	}
	fmt.Println(p.Units[0].Kind, p.Units[0].Name, p.Units[0].Run, p.Units[0].Watch[0].Text)
	// Output:
	// omnivigil.toml:3:1: unknown key "neds" in [service.berths]; did you mean "needs"?
	//   3 | neds = ["tides"]
	//       ^^^^
	// service berths go run ./cmd/berths cmd/**/*.go
}
