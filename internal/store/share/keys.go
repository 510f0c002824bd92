package share

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"omnivigil/internal/files"
)

// Key is a public key that a user trusts.
type Key struct {
	Name   string
	Public ed25519.PublicKey
}

// Text is the key as users pass it on.
func (k Key) Text() string { return base64.StdEncoding.EncodeToString(k.Public) }

// Keys are the keys that a user trusts.
type Keys []Key

// ParseKey is the inverse of Key.Text.
func ParseKey(text string) (ed25519.PublicKey, error) {
	public, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
	if err != nil || len(public) != ed25519.PublicKeySize {
		return nil, errors.New("a public key has 44 letters, as omnivigil share key prints it")
	}
	return public, nil
}

// ReadKeys reads trusted keys from a file: a name and a key on each line. A missing file has none.
func ReadKeys(file string) (keys Keys, err error) {
	data, err := files.Read(file, files.Sane)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the keys that you trust: %w", err)
	}
	lines := bufio.NewScanner(bytes.NewReader(data))
	for n := 1; lines.Scan(); n++ {
		text := strings.TrimSpace(lines.Text())
		if text == "" || strings.HasPrefix(text, "#") {
			continue
		}
		name, key, _ := strings.Cut(text, " ")
		public, err := ParseKey(key)
		if err != nil {
			return nil, fmt.Errorf("%s, line %d: %w", file, n, err)
		}
		keys = append(keys, Key{name, public})
	}
	return keys, lines.Err()
}

// WriteKeys replaces the file of trusted keys.
func WriteKeys(file string, keys Keys) error {
	var text strings.Builder
	text.WriteString("# Keys whose results are used. omnivigil share trust adds one, untrust removes one.\n")
	for _, k := range keys {
		fmt.Fprintf(&text, "%s %s\n", k.Name, k.Text())
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return files.Replace(file, []byte(text.String()), 0o600)
}

// Has reports whether a key with an ID is among them.
func (k Keys) Has(id string) bool {
	return slices.ContainsFunc(k, func(one Key) bool { return KeyID(one.Public) == id })
}

// Without are the keys except those with a name.
func (k Keys) Without(name string) Keys {
	return slices.DeleteFunc(slices.Clone(k), func(one Key) bool { return one.Name == name })
}

// pemType is the type of a private key in a file (RFC 5958).
const pemType = "PRIVATE KEY"

// ParsePrivate reads a private key in PEM form.
func ParsePrivate(data []byte) (ed25519.PrivateKey, error) {
	block, _ := pem.Decode(data)
	if block == nil || block.Type != pemType {
		return nil, errors.New("it is no private key in PEM form")
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, err
	}
	private, is := key.(ed25519.PrivateKey)
	if !is {
		return nil, errors.New("it is no Ed25519 key")
	}
	return private, nil
}

// CreatePrivate creates a private key in a file, which must not exist.
func CreatePrivate(file string) (ed25519.PrivateKey, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	return private, errors.Join(pem.Encode(f, &pem.Block{Type: pemType, Bytes: der}), f.Close())
}
