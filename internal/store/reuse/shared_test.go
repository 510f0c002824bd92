package reuse

import (
	"crypto/ed25519"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
	"omnivigil/internal/store/share"
)

// quay is a web server that supports PUT.
func quay(t *testing.T) (address string) {
	var objects sync.Map
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPut {
			data, _ := io.ReadAll(r.Body)
			objects.Store(r.URL.Path, data)
		} else if data, is := objects.Load(r.URL.Path); !is {
			http.NotFound(w, r)
		} else if r.Method == http.MethodGet {
			w.Write(data.([]byte))
		}
	}))
	t.Cleanup(server.Close)
	return server.URL
}

// with makes the results of a user those of a team.
func (o *office) with(r *Results, address string, sign ed25519.PrivateKey, trusted ...ed25519.PublicKey) *[]string {
	remote, err := share.NewWebServer(address, "")
	require.NoError(o.t, err)
	var problems []string
	s := &share.Share{
		Project: "saltmarsh", Remote: remote, Store: r.store, Sign: sign,
		Report: func(problem string) { problems = append(problems, problem) },
	}
	for _, public := range trusted {
		s.Trusted = append(s.Trusted, share.Key{Name: "builder", Public: public})
	}
	r.Share(s)
	return &problems
}

// TestShared makes a result on one machine and restores it on another.
func TestShared(t *testing.T) {
	address := quay(t)
	public, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	ci := open(t)
	r, a := ci.begin()
	ci.with(r, address, private)
	a.Seek(t.Context()) // it trusts nobody, so there is nothing
	require.False(t, a.IsKept())
	require.NoError(t, a.Starts())
	ci.write("build/fares.json", "{}")
	ci.write("build/pages/2.html", "two")
	a.began = a.began.Add(-time.Minute) // so that it is faster to fetch, even on a busy machine
	require.NoError(t, a.Ended())
	require.NoError(t, a.EndedWell([]byte("told")))
	_, err = a.Keep([]string{"2 made"})
	require.NoError(t, err)
	r.share.Close(t.Context())

	// What is listed is fetched before it is needed, so that a save finds it.
	ahead := open(t)
	require.NoError(t, os.RemoveAll(filepath.Join(ahead.root, "build/pages")))
	r, a = ahead.begin()
	problems := ahead.with(r, address, nil, public)
	r.Prefetch(t.Context(), a.plan)
	again, err := r.Begin(a.plan, a.unit)
	require.NoError(t, err)
	assert.True(t, again.IsKept(), problems)

	trusted := []ed25519.PublicKey{public}
	for name, test := range map[string]struct {
		trusted []ed25519.PublicKey
		change  func(o *office)
		is      bool
	}{
		"trusted":        {trusted: trusted, is: true},
		"not trusted":    {trusted: []ed25519.PublicKey{make([]byte, ed25519.PublicKeySize)}},
		"another input":  {trusted: trusted, change: func(o *office) { o.write("fares/a.csv", "other") }},
		"another path":   {trusted: trusted, change: func(o *office) { o.write("fares/b.csv", "other") }},
		"another result": {trusted: trusted, change: func(o *office) { o.write("build/rates.json", "9") }},
	} {
		t.Run(name, func(t *testing.T) {
			o := open(t)
			require.NoError(t, os.RemoveAll(filepath.Join(o.root, "build/pages")))
			if test.change != nil {
				test.change(o)
			}
			r, a := o.begin()
			o.with(r, address, nil, test.trusted...)
			a.Seek(t.Context())
			require.Equal(t, test.is, a.IsKept())
			if !test.is {
				return
			}
			done, err := a.Restore()
			require.NoError(t, err)
			assert.Equal(t, "builder", a.By())
			assert.Equal(t, []byte("told"), a.Told())
			assert.Equal(t, []string{"2 made"}, done.Lines)
			o.has(map[string]string{"fares.json": "{}", "pages/1.html": "build/pages/1.html", "pages/2.html": "two"})
			again, err := r.Begin(a.plan, a.unit)
			require.NoError(t, err)
			assert.True(t, again.Holds, "it is a result of this machine now")
			assert.Equal(t, "builder", again.By())
			r.share.Trusted = nil
			again, err = r.Begin(a.plan, a.unit)
			require.NoError(t, err)
			assert.False(t, again.Holds || again.IsKept(), "its key is not trusted any more")
		})
	}
}

// TestSecretValues computes the key of a task with a secret value: it is the same for all who have the team's secret,
// and otherwise only for one user, whose results are not sent.
func TestSecretValues(t *testing.T) {
	address := quay(t)
	key := func(o *office, team, value string) (string, bool) {
		o.t.Setenv("HARBOUR_TOKEN", value)
		o.write(plan.FileName, strings.Replace(settingsText, "$HARBOUR", "${HARBOUR_TOKEN}", 1)+
			"[project]\nname = \"saltmarsh\"\nsecret = [\"*_TOKEN\"]\n")
		r, a := o.begin()
		o.with(r, address, make([]byte, ed25519.PrivateKeySize))
		r.share.Secret = []byte(team)
		a, err := r.Begin(a.plan, a.unit)
		require.NoError(t, err)
		return a.needed, a.private
	}
	one, other := open(t), open(t)
	first, private := key(one, "", "ebb")
	require.True(t, private)
	again, _ := key(one, "", "ebb")
	assert.Equal(t, first, again)
	elsewhere, _ := key(other, "", "ebb")
	assert.NotEqual(t, first, elsewhere)
	shared, private := key(one, "a secret of the team", "ebb")
	require.False(t, private)
	elsewhere, _ = key(other, "a secret of the team", "ebb")
	assert.Equal(t, shared, elsewhere)
	for _, variant := range [][2]string{{"another secret", "ebb"}, {"a secret of the team", "flood"}} {
		elsewhere, _ = key(other, variant[0], variant[1])
		assert.NotEqual(t, shared, elsewhere)
	}

	// The result of one without it is not sent.
	r, a := one.begin()
	one.with(r, address, ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize)))
	require.NoError(t, a.EndedWell(nil))
	_, err := a.Keep(nil)
	require.NoError(t, err)
	r.share.Close(t.Context())
	listed, err := r.share.Recent(t.Context())
	require.NoError(t, err)
	assert.Empty(t, listed)
}
