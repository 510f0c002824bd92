package share

import (
	"crypto/ed25519"
	"crypto/x509"
	"encoding/pem"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func pemOf(t *testing.T, key ed25519.PrivateKey) string {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	return string(pem.EncodeToMemory(&pem.Block{Type: pemType, Bytes: der}))
}

// TestOwn reads what a user has, from files and from the environment.
func TestOwn(t *testing.T) {
	secret := strings.Repeat("tide", 8)
	for name, test := range map[string]struct {
		files     func(t *testing.T, f Files)
		variables map[string]string
		problem   string
		sends     [2]bool // without and with write = true
		trusted   int
	}{
		"nothing": {},
		"a key in a file": {files: func(t *testing.T, f Files) {
			_, err := CreatePrivate(f.Key)
			require.NoError(t, err)
		}, sends: [2]bool{false, true}, trusted: 1},
		"a key in the environment": {
			variables: map[string]string{KeyVariable: pemOf(t, newKey(t)), SecretVariable: secret},
			sends:     [2]bool{true, true}, trusted: 1,
		},
		"no key":         {variables: map[string]string{KeyVariable: "tide"}, problem: KeyVariable},
		"a short secret": {variables: map[string]string{SecretVariable: "tide"}, problem: "at least 32"},
		"a key that others can read": {files: func(t *testing.T, f Files) {
			require.NoError(t, os.WriteFile(f.Key, []byte(pemOf(t, newKey(t))), 0o644))
		}, problem: "chmod 600"},
		"a damaged file": {files: func(t *testing.T, f Files) {
			require.NoError(t, os.WriteFile(f.Trusted, []byte("ci"), 0o600))
		}, problem: "line 1"},
	} {
		t.Run(name, func(t *testing.T) {
			f := FilesIn(t.TempDir())
			if test.files != nil {
				test.files(t, f)
			}
			own, err := ReadOwn(f, variables(test.variables))
			if test.problem != "" {
				require.ErrorContains(t, err, test.problem)
				return
			}
			require.NoError(t, err)
			for i, send := range []bool{false, true} {
				c := Config{URL: "https://cache.example.org/", Send: send, Own: own}
				s, err := New(c, variables(test.variables))
				require.NoError(t, err)
				assert.Equal(t, test.sends[i], s.Sign != nil)
				assert.Len(t, s.Trusted, test.trusted)
				assert.Equal(t, test.variables[SecretVariable], string(s.Secret))
			}
		})
	}
}

// TestUsualCredentials takes credentials from the file of credentials, for its host only and only if they are
// encrypted on their way.
func TestUsualCredentials(t *testing.T) {
	file := filepath.Join(t.TempDir(), "netrc")
	require.NoError(t, os.WriteFile(file, []byte("machine cache.example.org login marram password tide\n"), 0o600))
	of := map[string]string{"NETRC": file}
	for address, want := range map[string]string{
		"https://cache.example.org/a/": "marram:tide", "https://other.example.org/": "",
		"http://cache.example.org/": "",
	} {
		remote, err := open(address, variables(of))
		require.NoError(t, err)
		assert.Equal(t, want, remote.(*webServer).credentials, address)
	}
	of[CredentialsVariable] = "cache.example.org skerry:ebb"
	remote, err := open("https://cache.example.org/", variables(of))
	require.NoError(t, err)
	assert.Equal(t, "skerry:ebb", remote.(*webServer).credentials)
	remote, err = open("http://other.example.org/", variables(of))
	require.NoError(t, err)
	assert.Empty(t, remote.(*webServer).credentials, "they are for another host")
	assert.Subset(t, Secrets(variables(of)), []string{"skerry:ebb", "ebb"})

	// They are not sent to where the share redirects.
	s, from := newShelf(t)
	elsewhere, to := newShelf(t)
	s.answer = func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, to, http.StatusFound) }
	remote, err = open(from, variables(of))
	require.NoError(t, err)
	_, err = remote.Get(t.Context(), resultName(key))
	require.Error(t, err)
	assert.Zero(t, elsewhere.asked)
}
