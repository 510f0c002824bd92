package share

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const patience = time.Minute

// keyOf is the key of a result.
func keyOf(n int) string {
	sum := sha256.Sum256(fmt.Append(nil, n))
	return hex.EncodeToString(sum[:])
}

// TestThousandResults sends, lists and fetches 1,000 results.
func TestThousandResults(t *testing.T) {
	const results = 1000
	_, address := newShelf(t)
	builder := newKey(t)
	ci := newUser(t, address, builder)
	made := ci.built()
	for n := range results {
		r := made
		r.Key, r.At = keyOf(n), made.At.Add(time.Duration(n)*time.Second)
		ci.write("dist/fares.js", fmt.Sprint("fare ", n))
		lines, err := ci.Store.Add(fmt.Append(nil, "line ", n))
		require.NoError(t, err)
		r.Lines = &lines
		ci.Send(r)
	}
	ci.Close(t.Context())
	require.Empty(t, ci.problems)
	ci.Send(made) // after the end: not sent

	u := newUser(t, address, nil, builder)
	listed, err := u.Recent(t.Context())
	require.NoError(t, err)
	require.Len(t, listed, results)
	assert.Equal(t, keyOf(results-1), listed[0].Key, "the newest is first")
	for _, l := range listed {
		r, _, is := u.Find(t.Context(), Expected{Unit: l.Unit, Key: l.Key, Covers: wanted.Covers})
		require.True(t, is, u.problems)
		require.NoError(t, u.Fetch(t.Context(), r, patience))
	}

	// Another one adds to the list.
	other := newUser(t, address, builder)
	made = other.built()
	made.Key = keyOf(-1)
	other.Send(made)
	other.Close(t.Context())
	listed, err = u.Recent(t.Context())
	require.NoError(t, err)
	assert.Len(t, listed, results+1)
}

// TestList reads lists that others have written.
func TestList(t *testing.T) {
	s, address := newShelf(t)
	ci := newUser(t, address, newKey(t))
	ci.Send(ci.built())
	ci.Close(t.Context())
	for text, want := range map[string]int{
		"[]": 0, `[{"key":"../../etc"}]`: 0,
		`[{"unit":"a","key":"` + keyOf(1) + `"},{"unit":"b","key":"` + keyOf(1) + `"}]`:      1,
		"[" + strings.TrimSuffix(strings.Repeat(`{"key":"`+keyOf(2)+`"},`, 5000), ",") + "]": 1,
		"[1]": -1, "<html>": -1,
	} {
		s.change("lists", func([]byte) []byte { return []byte(text) })
		all, err := ci.Recent(t.Context())
		require.Equal(t, want < 0, err != nil)
		assert.Len(t, all, max(want, 0))
	}
	s.change("lists", func([]byte) []byte { return []byte("<html>") })
	again := newUser(t, address, newKey(t))
	again.Send(again.built())
	again.Close(t.Context())
	require.Empty(t, again.problems)
	all, err := ci.Recent(t.Context())
	require.NoError(t, err, "a damaged list is replaced")
	assert.Len(t, all, 1)
}

// TestNotSent sends results to a share that does not take them.
func TestNotSent(t *testing.T) {
	for name, test := range map[string]struct {
		answer  http.HandlerFunc
		problem string
	}{
		"full": {func(w http.ResponseWriter, _ *http.Request) {
			http.Error(w, "full", http.StatusInsufficientStorage)
		}, "507"},
		"read-only": {func(w http.ResponseWriter, r *http.Request) {
			if r.Method == http.MethodPut {
				http.Error(w, "no", http.StatusForbidden)
			} else {
				http.NotFound(w, r)
			}
		}, "403"},
	} {
		t.Run(name, func(t *testing.T) {
			s, address := newShelf(t)
			s.answer = test.answer
			ci := newUser(t, address, newKey(t))
			ci.Send(ci.built())
			ci.Send(ci.built())
			ci.Close(t.Context())
			require.Len(t, ci.problems, 2)
			assert.Contains(t, ci.problems[0], test.problem)
			assert.Contains(t, ci.problems[1], "2 results not sent to the share")
			assert.Contains(t, ci.problems[1], test.problem)
		})
	}
}

// hanging is a share that takes no object.
type hanging struct{ Remote }

func (hanging) Has(context.Context, string) (bool, error) { return false, nil }
func (hanging) Put(ctx context.Context, _ string, _ io.Reader, _ int64) error {
	<-ctx.Done()
	return ctx.Err()
}

// TestNoTime ends while results are being sent.
func TestNoTime(t *testing.T) {
	ci := newUser(t, "http://unused.example.org/", newKey(t))
	ci.Remote = hanging{}
	made := ci.built()
	for range maxWaiting + 10 {
		ci.Send(made)
	}
	assert.Positive(t, ci.Unsent())
	ctx, stop := context.WithTimeout(t.Context(), 10*time.Millisecond)
	defer stop()
	ci.Close(ctx)
	require.Len(t, ci.problems, 1)
	assert.Contains(t, ci.problems[0], fmt.Sprintf("%d results not sent", maxWaiting+10))

	large := ci.built()
	large.Tree[0].Content.Size = maxContents
	require.ErrorContains(t, ci.Keep(t.Context(), large), "at most 1.1 GB is sent")
}

// TestRate sends at a limited rate.
func TestRate(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &Share{Rate: 4 * piece}
		began := time.Now()
		from := strings.NewReader(strings.Repeat("x", 13*piece))
		n, err := io.Copy(io.Discard, limited{t.Context(), from, s.limiter()})
		require.NoError(t, err)
		assert.Equal(t, int64(13*piece), n)
		assert.Equal(t, 3*time.Second, time.Since(began).Round(time.Second), "the first piece need not wait")
	})
}
