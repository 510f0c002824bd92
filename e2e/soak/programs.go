package main

import (
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"time"
)

// compile is a compiler in watch mode: it copies a file whenever that holds something else, and says so.
func compile(from, to string) {
	const look, work = 30 * time.Millisecond, 50 * time.Millisecond
	last := "\x00"
	for ; ; time.Sleep(look) {
		text, err := os.ReadFile(from)
		if err != nil || string(text) == last || len(text) == 0 {
			continue
		}
		last = string(text)
		fmt.Println("page changed")
		time.Sleep(work)
		if err := os.WriteFile(to, text, 0o644); err != nil {
			fmt.Println("page failed:", err)
			continue
		}
		fmt.Println("page made")
	}
}

// serve answers on a socket with what files held when it began.
func serve(socket string, files []string) error {
	var all strings.Builder
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		all.Write(text)
	}
	l, err := net.Listen("unix", socket)
	if err != nil {
		return err
	}
	fmt.Println("tickets are sold")
	for {
		c, err := l.Accept()
		if err != nil {
			return err
		}
		io.WriteString(c, all.String())
		c.Close()
	}
}

// ask returns what a server answers.
func ask(socket string) (string, error) {
	c, err := net.DialTimeout("unix", socket, 5*time.Second)
	if err != nil {
		return "", err
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(5 * time.Second))
	text, err := io.ReadAll(c)
	return string(text), err
}
