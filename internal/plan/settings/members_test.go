package settings

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
)

// unpack writes the files of an archive, except the last one, into a new directory.
func unpack(t *testing.T, archive *txtar.Archive) string {
	root := filepath.Join(t.TempDir(), "saltmarsh")
	for _, f := range archive.Files[:len(archive.Files)-1] {
		write(t, root, f.Name, string(f.Data))
	}
	return root
}

func write(t *testing.T, root, name, text string) {
	file := filepath.Join(root, filepath.FromSlash(name))
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
}

// account describes a plan with members.
func account(p *plan.Plan) string {
	var b strings.Builder
	fmt.Fprintf(&b, "project %s, %d jobs, secret %s, env files %s\n", p.Name, p.Jobs, strings.Join(p.Secret, " "),
		strings.Join(p.EnvFiles, " "))
	for _, m := range p.Members {
		fmt.Fprintf(&b, "member %s in %s", m.Name, m.Path)
		if m.Problem != "" {
			fmt.Fprintf(&b, ", which is broken: %s", strings.SplitN(m.Problem, "\n", 2)[0])
		}
		b.WriteByte('\n')
	}
	for _, g := range p.Groups {
		fmt.Fprintf(&b, "group %s: %s\n", g.Name, strings.Join(g.Units, " "))
	}
	rel := func(file string) string {
		name, _ := filepath.Rel(p.Root, file)
		return filepath.ToSlash(name)
	}
	list := func(word string, all []string) {
		if len(all) > 0 {
			b.WriteString(" " + word + " " + strings.Join(all, " "))
		}
	}
	for _, u := range p.Units {
		fmt.Fprintf(&b, "%s of %s:%d in %s debounce %v", u.Name, rel(u.File), u.Line, rel(u.Dir), u.Debounce)
		list("watch", plan.Texts(u.Watch))
		list("ignore", plan.Texts(u.Ignore))
		list("outputs", plan.Texts(u.Outputs))
		var env []string
		for _, v := range u.Env {
			env = append(env, v.Name+"="+v.Value)
		}
		list("env", env)
		b.WriteString(strings.TrimRight(" files "+strings.Join(u.EnvFiles, " "), " "))
		list("needs", u.Needs)
		list("follows", u.Follows)
		if u.Results.JUnit != "" {
			b.WriteString(" junit " + u.Results.JUnit)
		}
		if u.Relay != nil {
			b.WriteString(" to " + u.Relay.To + " at")
			for _, at := range u.Relay.At {
				if at.Root != "" {
					at.To = rel(at.Root)
				}
				b.WriteString(" " + at.Prefix + "=" + at.To)
			}
		}
		b.WriteByte('\n')
	}
	return b.String()
}

// TestMembers reads projects with members, and compares what they mean, or their problems.
func TestMembers(t *testing.T) {
	all, err := filepath.Glob("testdata/members/*.txt")
	require.NoError(t, err)
	require.NotEmpty(t, all)
	for _, file := range all {
		t.Run(filepath.Base(file), func(t *testing.T) {
			file, err := filepath.Abs(file)
			require.NoError(t, err)
			archive, err := txtar.ParseFile(file)
			require.NoError(t, err)
			t.Chdir(unpack(t, archive))
			got := ""
			if p, err := Read(plan.FileName); err == nil {
				got = account(p)
			} else {
				got = err.Error() + "\n"
			}
			last := &archive.Files[len(archive.Files)-1]
			if *update {
				last.Data = []byte(got)
				require.NoError(t, os.WriteFile(file, txtar.Format(archive), 0o644))
			}
			assert.Equal(t, string(last.Data), got)
		})
	}
}

// TestMemberBreaks edits the settings of members while the plan before is in use.
func TestMemberBreaks(t *testing.T) {
	root := t.TempDir()
	write(t, root, plan.FileName, "[project]\nmembers = [\"*\"]\n[service.db]\nrun = \"db\"\nneeds = [\"tides/gen\"]\n")
	write(t, root, "tides/"+plan.FileName, "[task.gen]\nrun = \"gen\"\n[group.all]\nunits = [\"gen\"]\n")
	p, err := Read(filepath.Join(root, plan.FileName))
	require.NoError(t, err)
	tides := p.Unit("tides/gen")

	again := func() *plan.Plan {
		t.Helper()
		edited, err := ReadAgain(p)
		require.NoError(t, err)
		return edited
	}
	for _, broken := range []string{
		"[task.gen", "[task.gen]\nrun = \"gen\"\nneeds = [\"x\"]\n", "[task.gen]\nrun = 1\n",
	} {
		write(t, root, "tides/"+plan.FileName, broken)
		edited := again()
		assert.Same(t, tides, edited.Unit("tides/gen"))
		assert.Equal(t, []string{"tides/gen"}, edited.Expand("tides/all"))
		require.Len(t, edited.MemberProblems(), 1)
		assert.Contains(t, edited.MemberProblems()[0], filepath.Join("tides", plan.FileName)+":")
		_, err := Read(p.File)
		require.Error(t, err, "there are no earlier settings to keep")
	}
	write(t, root, "berths/"+plan.FileName, "[service.api]\nrun = \"api\"\n")
	p = again()
	assert.Equal(t, []string{"db", "berths/api", "tides/gen"}, p.UnitNames(), "one is new, and one is still broken")
	assert.Equal(t, []string{"berths/api"}, p.Expand("berths"))
	assert.Equal(t, []string{"berths/api"}, p.Expand("api"))
	write(t, root, "tides/"+plan.FileName, "[task.gen]\nrun = \"other\"\n")
	p = again()
	assert.Empty(t, p.MemberProblems())
	assert.Equal(t, "other", p.Unit("tides/gen").Run.Shell)
	require.NoError(t, os.RemoveAll(filepath.Join(root, "berths")))
	p = again()
	assert.Equal(t, []string{"db", "tides/gen"}, p.UnitNames())

	// What the rest needs is gone, or the rest is broken.
	write(t, root, "tides/"+plan.FileName, "[task.make]\nrun = \"make\"\n")
	_, err = ReadAgain(p)
	require.ErrorContains(t, err, `there is no unit "tides/gen"`)

	assert.Equal(t, p.File, Project(filepath.Join(root, "tides", plan.FileName)))
	assert.Empty(t, Project(filepath.Join(root, "tides", "deep", plan.FileName)))
	assert.Empty(t, Project(p.File))
}
