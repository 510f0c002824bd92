package main

import (
	"bufio"
	"strings"
	"testing"
)

func TestParse(t *testing.T) {
	got, err := parse(bufio.NewReader(strings.NewReader("*2\r\n$4\r\nTern\r\n$6\r\nPlover\r\n")))
	if err != nil || strings.Join(got, " ") != "Tern Plover" {
		t.Fatalf("got %q, %v", got, err)
	}
}
