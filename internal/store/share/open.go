package share

import (
	"cmp"
	"crypto/ed25519"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/jdx/go-netrc"

	"omnivigil/internal/files"
	"omnivigil/internal/store/contents"
)

// Variables of the environment. They are not passed on to units.
const (
	Variables           = "OMNIVIGIL_SHARE_" // their common prefix
	KeyVariable         = Variables + "KEY"  // a private key in PEM form: results are signed with it and sent
	SecretVariable      = Variables + "SECRET"
	CredentialsVariable = Variables + "CREDENTIALS" // "HOST USER:PASSWORD" or "HOST TOKEN"
)

// Files are the user's files for shares.
type Files struct {
	Key     string // the private key
	Secret  string // the team's secret
	Trusted string // the keys that the user trusts
}

// FilesIn returns the files in a directory.
func FilesIn(dir string) Files {
	return Files{
		Key: filepath.Join(dir, "share-key.pem"), Secret: filepath.Join(dir, "share-secret"),
		Trusted: filepath.Join(dir, "trusted-keys"),
	}
}

// OwnName is the name of the user's own key among those that are trusted.
const OwnName = "your key"

// Own is what a user has for shares.
type Own struct {
	Key         ed25519.PrivateKey // nil: there is none
	IsInherited bool               // the key comes from the environment
	Secret      []byte
	Trusted     Keys // with that of Key
}

// minSecret is how long the team's secret must be, in bytes.
const minSecret = 32

// ReadOwn reads what a user has, from the environment or else from files. An error tells what cannot be used.
func ReadOwn(from Files, variable func(string) string) (own Own, err error) {
	if own.Trusted, err = ReadKeys(from.Trusted); err != nil {
		return own, err
	}
	data, where := []byte(variable(KeyVariable)), KeyVariable
	if own.IsInherited = len(data) > 0; !own.IsInherited {
		if data, err = readPrivate(from.Key); err != nil {
			return own, err
		}
		where = from.Key
	}
	if len(data) > 0 {
		if own.Key, err = ParsePrivate(data); err != nil {
			return own, fmt.Errorf("read the key in %s: %w", where, err)
		}
		own.Trusted = append(own.Trusted, Key{OwnName, own.Key.Public().(ed25519.PublicKey)})
	}
	own.Secret = []byte(strings.TrimSpace(variable(SecretVariable)))
	where = SecretVariable
	if len(own.Secret) == 0 {
		if data, err = readPrivate(from.Secret); err != nil {
			return own, err
		}
		own.Secret, where = []byte(strings.TrimSpace(string(data))), from.Secret
	}
	if n := len(own.Secret); n > 0 && n < minSecret {
		return own, fmt.Errorf("the team's secret in %s has %d characters, and must have at least %d", where, n,
			minSecret)
	}
	return own, nil
}

// readPrivate reads a file that only its owner may read; nil: there is none.
func readPrivate(file string) ([]byte, error) {
	info, err := os.Stat(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil && info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("others can read %s; run chmod 600 on it", file)
	}
	return files.Read(file, files.Sane)
}

// Secrets are values that must be masked.
func Secrets(variable func(string) string) (all []string) {
	_, credentials, _ := strings.Cut(variable(CredentialsVariable), " ")
	_, password, _ := strings.Cut(credentials, ":")
	values := []string{credentials, password, variable(SecretVariable), variable("AWS_SECRET_ACCESS_KEY"),
		variable("AWS_SESSION_TOKEN")}
	for _, value := range append(values, strings.Split(variable(KeyVariable), "\n")...) {
		if value = strings.TrimSpace(value); value != "" && !strings.HasPrefix(value, "-----") {
			all = append(all, value)
		}
	}
	return all
}

// Config is where a share is, and for whom.
type Config struct {
	URL     string // http, https or s3
	Project string
	Send    bool // results are sent with the user's own key; one from the environment always sends
	Store   *contents.Store
	Own     Own
}

// New returns a share. It asks nothing of it yet.
func New(c Config, variable func(string) string) (*Share, error) {
	remote, err := open(c.URL, variable)
	if err != nil {
		return nil, fmt.Errorf("use the share %s: %w", c.URL, err)
	}
	s := &Share{Project: c.Project, Remote: remote, Store: c.Store, Trusted: c.Own.Trusted, Secret: c.Own.Secret}
	if c.Send || c.Own.IsInherited {
		s.Sign = c.Own.Key
	}
	return s, nil
}

func open(address string, variable func(string) string) (Remote, error) {
	at, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	if at.Scheme == "s3" {
		return newBucket(at, variable)
	}
	// Credentials are those for one host, because a project's settings name the share.
	host, credentials, _ := strings.Cut(variable(CredentialsVariable), " ")
	switch {
	case host == at.Hostname():
	case at.Scheme == "https":
		credentials = fromNetrc(at.Hostname(), variable)
	default:
		credentials = ""
	}
	return NewWebServer(address, credentials)
}

// fromNetrc returns the credentials for a host in the file of credentials that many programs share; empty: there are
// none.
func fromNetrc(host string, variable func(string) string) string {
	all, err := netrc.Parse(cmp.Or(variable("NETRC"), filepath.Join(variable("HOME"), ".netrc")))
	if err != nil {
		return ""
	}
	machine := all.Machine(host)
	if machine == nil || machine.Get("login") == "" {
		return ""
	}
	return machine.Get("login") + ":" + machine.Get("password")
}
