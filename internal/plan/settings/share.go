package settings

import (
	"net/url"
	"slices"

	"github.com/google/jsonschema-go/jsonschema"

	"omnivigil/internal/plan/document"
)

// shareShape is that of a share.
func shareShape() *jsonschema.Schema {
	shape := tableShape(map[string]*jsonschema.Schema{
		"url": described("The directory of a web server, or s3://BUCKET/PREFIX.", &jsonschema.Schema{
			Type: "string", Pattern: "^(https?|s3)://[^/@?#]+(/[^?#]*)?$",
		}),
		"write": described("Results of this machine are sent there.", flagShape()),
	})
	shape.Required = []string{"url"}
	return shape
}

// readShare reads where the results of the team are, in the table of the project.
func (r *reader) readShare(e *document.Entry, project *document.Table) {
	if !r.Want(e.Value, document.TablesKind, e.Key) {
		return
	}
	for _, key := range e.Value.Table.Entries {
		switch key.Key {
		case "url":
			r.plan.Share.URL = r.shareURL(key)
		case "write":
			r.plan.Share.Write = r.Flag(key)
		default:
			r.Unknown(key, e.Key, []string{"url", "write"})
		}
	}
	if e.Value.Table.Get("url") == nil {
		r.Wrong(e.KeyAt, `such as share = { url = "https://cache.example.org/saltmarsh/" }`,
			"\"share\" requires \"url\"")
	}
	if project.Get("name") == nil {
		r.Wrong(e.KeyAt, `such as name = "Saltmarsh Ferries"`,
			"\"share\" requires \"name\": it tells the results of projects apart")
	}
}

// shareURL reads the address of a share. It has no credentials: the settings file is in the repository.
func (r *reader) shareURL(e *document.Entry) string {
	const hint = `such as "https://cache.example.org/saltmarsh/"`
	if !r.Want(e.Value, document.TextKind, e.Key) {
		return ""
	}
	to, err := url.Parse(e.Value.Text)
	switch {
	case err != nil || to.Host == "" || !slices.Contains([]string{"http", "https", "s3"}, to.Scheme):
		r.Wrong(e.Value.At, hint, "%q is not the address of a web server or a bucket", e.Value.Text)
	case to.User != nil:
		r.Wrong(e.Value.At, "credentials are in the environment, see docs/store.md",
			"the address of a share has no credentials")
	case to.RawQuery != "" || to.Fragment != "":
		r.Wrong(e.Value.At, hint, "%q is not a directory: leave out what follows the path", e.Value.Text)
	}
	return e.Value.Text
}
