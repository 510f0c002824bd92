package share

import (
	"net/http/httptest"
	"testing"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// variables returns the values of variables, instead of the environment.
func variables(of map[string]string) func(string) string {
	return func(name string) string { return of[name] }
}

// TestBucket shares results in an object store.
func TestBucket(t *testing.T) {
	store := s3mem.New()
	require.NoError(t, store.CreateBucket("saltmarsh"))
	server := httptest.NewServer(gofakes3.New(store).Server())
	t.Cleanup(server.Close)
	t.Setenv("AWS_ACCESS_KEY_ID", "marram")
	t.Setenv("AWS_SECRET_ACCESS_KEY", "tide-table")
	remote := func(address string) Remote {
		r, err := open(address, variables(map[string]string{"AWS_ENDPOINT_URL": server.URL}))
		require.NoError(t, err)
		return r
	}
	builder := newKey(t)
	ci := newUser(t, "http://unused.example.org/", builder)
	ci.Remote = remote("s3://saltmarsh/harbour/")
	ci.Send(ci.built())
	ci.Close(t.Context())
	require.Empty(t, ci.problems)

	u := newUser(t, "http://unused.example.org/", nil, builder)
	u.Remote = remote("s3://saltmarsh/harbour")
	r, _, is := u.Find(t.Context(), wanted)
	require.True(t, is, u.problems)
	require.NoError(t, u.Fetch(t.Context(), r, patience))
	missing, _ := u.Missing(r)
	assert.Empty(t, missing)
	listed, err := u.Recent(t.Context())
	require.NoError(t, err)
	assert.Len(t, listed, 1)

	_, err = remote("s3://saltmarsh/elsewhere").Get(t.Context(), resultName(key))
	require.ErrorIs(t, err, ErrAbsent)
	_, err = remote("s3://skerry/").Get(t.Context(), resultName(key))
	require.ErrorContains(t, err, "bucket skerry")
	_, err = open("s3://saltmarsh/", variables(map[string]string{"AWS_ENDPOINT_URL": "saltmarsh"}))
	require.ErrorContains(t, err, "AWS_ENDPOINT_URL")
}
