// Package demo is Saltmarsh Ferries, a fictional ferry line: a project of several real processes that shows Omnivigil
// at work.
//
// Unpack writes the project's files into a directory. Act runs one of its programs: they serve real ports, call each
// other over HTTP and read the project's files, so an edit changes what they do and a broken edit breaks them. The
// package uses Omnivigil only through an omnivigil.toml. Start reading at Unpack and Act.
package demo

import (
	"embed"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

//go:embed all:ferries
var files embed.FS

// FolderName is the name of the demo's directory.
const FolderName = "saltmarsh-ferries"

// Unpack writes a fresh copy of the project below parent and returns its directory. The services get free ports. Self
// is the program that runs an actor when it is run with "act" and the actor's name.
func Unpack(parent, self string) (string, error) {
	root := filepath.Join(parent, FolderName)
	ports, err := freePorts(4)
	if err != nil {
		return "", fmt.Errorf("find free ports: %w", err)
	}
	values := strings.NewReplacer("{{self}}", strconv.Quote(self),
		"{{tides}}", ports[0], "{{berths}}", ports[1], "{{tickets}}", ports[2], "{{site}}", ports[3])
	err = fs.WalkDir(files, "ferries", func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		target := filepath.Join(root, strings.TrimPrefix(path, "ferries"))
		if entry.IsDir() {
			return os.MkdirAll(target, 0o755)
		}
		data, err := files.ReadFile(path)
		if err != nil {
			return err
		}
		if filled, ok := strings.CutSuffix(target, ".tmpl"); ok {
			target, data = filled, []byte(values.Replace(string(data)))
		}
		return os.WriteFile(target, data, 0o644)
	})
	if err != nil {
		return "", fmt.Errorf("unpack the demo: %w", err)
	}
	return root, nil
}

// freePorts asks the system for free ports. They are held together, so that all differ, and then released.
func freePorts(n int) ([]string, error) {
	ports := make([]string, n)
	for i := range ports {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, err
		}
		defer l.Close()
		_, ports[i], _ = net.SplitHostPort(l.Addr().String())
	}
	return ports, nil
}
