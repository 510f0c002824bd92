// The berths of the island line, from a list in the database.
package main

import (
	"bufio"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
)

const title = "berths 1"

func main() {
	berths, err := list("127.0.0.1:"+os.Getenv("DB_PORT"), "berths")
	if err != nil {
		log.Print(err) // the page is empty without the database
	}
	log.Print(len(berths), " berths")
	http.HandleFunc("/health", func(http.ResponseWriter, *http.Request) {})
	http.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintln(w, title)
		io.WriteString(w, strings.Join(berths, "\n"))
	})
	log.Fatal(http.ListenAndServe("127.0.0.1:"+os.Getenv("PORT"), nil))
}

// list reads a list from a Redis (the protocol is RESP 2).
func list(address, name string) ([]string, error) {
	conn, err := net.Dial("tcp", address)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	fmt.Fprintf(conn, "LRANGE %s 0 -1\r\n", name)
	return parse(bufio.NewReader(conn))
}

// parse reads an array of strings.
func parse(in *bufio.Reader) ([]string, error) {
	head, err := in.ReadString('\n')
	if err != nil {
		return nil, err
	}
	n, err := strconv.Atoi(strings.TrimSpace(strings.TrimPrefix(head, "*")))
	if err != nil {
		return nil, fmt.Errorf("the database answers %q", head)
	}
	var all []string
	for range n {
		if _, err := in.ReadString('\n'); err != nil { // its length
			return nil, err
		}
		line, err := in.ReadString('\n')
		if err != nil {
			return nil, err
		}
		all = append(all, strings.TrimSpace(line))
	}
	return all, nil
}
