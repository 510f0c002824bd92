package draft

import (
	"flag"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
	"omnivigil/internal/plan/settings"
)

var update = flag.Bool("update", false, "write the drafts into the files of testdata")

// written makes a project of files.
func written(t testing.TB, files []txtar.File) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "ferry")
	require.NoError(t, os.Mkdir(dir, 0o755))
	for _, f := range files {
		file := filepath.Join(dir, f.Name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, f.Data, 0o644))
	}
	return dir
}

// check requires that a draft is a valid settings file, if there is one.
func check(t testing.TB, dir string, d Draft) {
	t.Helper()
	if d.Text == "" {
		return
	}
	file := filepath.Join(dir, plan.FileName)
	require.NoError(t, os.WriteFile(file, []byte(d.Text), 0o644))
	whole, err := settings.Read(file)
	require.NoError(t, err, d.Text)
	if d.Members == nil {
		return
	}
	// Divided among members, it means the same.
	require.NoError(t, os.WriteFile(file, []byte(d.Members.Text), 0o644))
	for member, text := range d.Members.Files {
		own := filepath.Join(dir, member, plan.FileName)
		require.NoError(t, os.WriteFile(own, []byte(text), 0o644))
		defer os.Remove(own)
	}
	parted, err := settings.Read(file)
	require.NoError(t, err, "%v", d.Members)
	short := func(names []string) (all []string) {
		for _, name := range names {
			all = append(all, path.Base(name))
		}
		return all
	}
	assert.ElementsMatch(t, whole.UnitNames(), short(parted.UnitNames()))
	for _, u := range parted.Units {
		of := whole.Unit(path.Base(u.Name))
		require.NotNil(t, of, u.Name)
		assert.Equal(t, of.Dir, u.Dir)
		assert.Equal(t, of.Needs, short(u.Needs), u.Name)
		assert.Equal(t, of.Follows, short(u.Follows), u.Name)
		for _, patterns := range [][2][]plan.Pattern{
			{of.Watch, u.Watch}, {of.Ignore, u.Ignore}, {of.Outputs, u.Outputs},
		} {
			assert.Equal(t, plan.Texts(patterns[0]), plan.Texts(patterns[1]), u.Name)
		}
		require.Len(t, u.Setup, len(of.Setup))
		for i, step := range of.Setup {
			assert.Equal(t, step.In(of), u.Setup[i].In(u))
			assert.Equal(t, plan.Texts(step.Inputs), plan.Texts(u.Setup[i].Inputs))
		}
	}
}

// TestDrafts drafts the projects of testdata. Each file has the files of a project, and as its last one the draft: what
// follows the head that all drafts have, or what is left out if nothing is recognized.
func TestDrafts(t *testing.T) {
	files, err := filepath.Glob("testdata/*.txtar")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txtar"), func(t *testing.T) {
			archive, err := txtar.ParseFile(file)
			require.NoError(t, err)
			given, want := archive.Files, ""
			if last := len(given) - 1; given[last].Name == "draft" {
				given, want = given[:last], string(given[last].Data)
			}
			dir := written(t, given)
			d, err := Of(dir)
			require.NoError(t, err)
			check(t, dir, d)
			_, got, _ := strings.Cut(d.Text, "name = \"ferry\"\n")
			if d.Text == "" {
				got = strings.Join(d.Left, "\n") + "\n"
			}
			if *update {
				archive.Files = append(given, txtar.File{Name: "draft", Data: []byte(got)})
				require.NoError(t, os.WriteFile(file, txtar.Format(archive), 0o644))
				return
			}
			assert.Equal(t, want, got)
		})
	}
}

// FuzzDraft requires that the draft of any manifest is valid.
func FuzzDraft(f *testing.F) {
	f.Add(`{"scripts":{"start":"node \"x\"","test":"a\nb"},"workspaces":["*"]}`, "run: x\n\t\"\nbuild:",
		"services:\n  \"a b\": {image: \"x\\ny\"}", "[package]\nname = \"a.b\"")
	f.Add(`{"scripts":{"a":"npm run b","b":"npm run a","dev":"x npm:* 'npm run a'"}}`, "a: b\nb: a\n\t$(MAKE) a",
		"<project><artifactId>x", "from flask import Flask\napp = Flask(__name__)")
	f.Fuzz(func(t *testing.T, node, targets, compose, other string) {
		var files []txtar.File
		for name, text := range map[string]string{
			"go.mod": "module x", "a[b{c/x.go": "package main\nimport \"x/d}e\"\n//go:embed " + targets + "\n",
			"package.json": node, "a[b{c/package.json": node, "Makefile": targets, "compose.yaml": compose,
			"Cargo.toml": other, "src/main.rs": "TcpListener", "py/pyproject.toml": other, "py/app.py": other,
			"java/pom.xml": compose, "java/src/main/java/A.java": other, "rb/Gemfile": other, "php/composer.json": node,
			"c/CMakeLists.txt": targets, ".env": other,
		} {
			files = append(files, txtar.File{Name: name, Data: []byte(text)})
		}
		dir := written(t, files)
		d, err := Of(dir)
		require.NoError(t, err)
		check(t, dir, d)
	})
}
