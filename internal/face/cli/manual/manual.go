// Package manual is the documentation on the command line: chapters in the terminal, manual pages and completions.
// Start reading at Help and Command.
package manual

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"omnivigil/docs"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/text/suggest"
)

// Help returns the command help of a program: it shows a chapter of the documentation, or the help of a command.
func Help() *cobra.Command {
	return &cobra.Command{
		Use:   "help [COMMAND or TOPIC]",
		Short: "Show the help of a command, or a chapter of the documentation",
		Long: "Show the help of a command, or a chapter of the documentation in your pager. The topics are\n" +
			strings.Join(docs.Topics(), ", ") + ".",
		ValidArgsFunction: func(c *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
			names := docs.Topics()
			for _, sub := range c.Root().Commands() {
				if sub.IsAvailableCommand() {
					names = append(names, sub.Name())
				}
			}
			return names, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(c *cobra.Command, words []string) error {
			if len(words) == 1 {
				if text, is := docs.Chapter(words[0]); is {
					return show(text)
				}
			}
			of, rest, err := c.Root().Find(words)
			if err != nil || len(rest) > 0 || of == c.Root() && len(words) > 0 {
				hint := ""
				if near := suggest.Name(strings.Join(words, " "), docs.Topics()); near != "" {
					hint = fmt.Sprintf(" Did you mean omnivigil help %s?", near)
				}
				return exit.Refuse("omnivigil: there is no command and no topic %q.%s\nTopics: %s",
					strings.Join(words, " "), hint, strings.Join(docs.Topics(), ", "))
			}
			of.InitDefaultHelpFlag()
			return of.Help()
		},
	}
}

// maxWidth is the maximum width of a text, which is hard to read if it is wider; a terminal with less than leastWidth
// does not tell its size.
const leastWidth, maxWidth = 20, 100

// show shows a chapter: as it is written if the output is no terminal, and otherwise formatted, in the user's pager.
func show(text string) error {
	if !term.IsTerminal(os.Stdout.Fd()) {
		_, err := io.WriteString(os.Stdout, text)
		return ignoreClosed(err)
	}
	width, height, err := term.GetSize(os.Stdout.Fd())
	if err != nil || width < leastWidth {
		width, height = 80, 24
	}
	shown := formatted(text, min(width, maxWidth))
	if _, set := os.LookupEnv("NO_COLOR"); set {
		shown = ansi.Strip(shown)
	}
	if strings.Count(shown, "\n") < height {
		_, err := io.WriteString(os.Stdout, shown)
		return err
	}
	return paged(shown)
}

// paged shows a text in the user's pager: PAGER, or less.
func paged(text string) error {
	words := strings.Fields(os.Getenv("PAGER"))
	if len(words) == 0 {
		words = []string{"less"}
	}
	c := exec.Command(words[0], words[1:]...)
	c.Stdin, c.Stdout, c.Stderr = strings.NewReader(text), os.Stdout, os.Stderr
	if _, set := os.LookupEnv("LESS"); !set {
		c.Env = append(os.Environ(), "LESS=FR") // it ends if all fits, and shows colors
	}
	err := c.Run()
	if errors.Is(err, exec.ErrNotFound) {
		_, err = io.WriteString(os.Stdout, text)
	}
	var ended *exec.ExitError
	if errors.As(err, &ended) { // the user has left it
		return nil
	}
	return ignoreClosed(err)
}

// ignoreClosed leaves out the error of a reader that has had enough.
func ignoreClosed(err error) error {
	if errors.Is(err, os.ErrClosed) || err != nil && strings.Contains(err.Error(), "broken pipe") {
		return nil
	}
	return err
}

// Command returns the command that installs manual pages and completions.
func Command(version string) *cobra.Command {
	prefix := ""
	c := &cobra.Command{
		Use:   "manual",
		Short: "Install manual pages, and completions for bash, zsh and fish",
		Long: `Write a manual page for every command, and completions of commands, units and groups for
bash, zsh and fish, below a directory: by default ~/.local, where man, bash and fish look
for them. For zsh, add its directory to fpath, as the command says.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if prefix == "" {
				home, err := os.UserHomeDir()
				if err != nil {
					return exit.With(exit.Failed, err)
				}
				prefix = filepath.Join(home, ".local")
			}
			if err := install(c.Root(), prefix, version); err != nil {
				return exit.With(exit.Failed, fmt.Errorf("install the manual: %w", err))
			}
			fmt.Printf("The manual is in %s: man omnivigil shows it.\n", filepath.Join(prefix, "share/man"))
			fmt.Printf("For zsh, add to ~/.zshrc before compinit: fpath+=(%s)\n", filepath.Join(prefix, zshDir))
			return nil
		},
	}
	c.Flags().StringVar(&prefix, "prefix", "", "the directory to install below (default: ~/.local)")
	return c
}

// Directories below the prefix, as man, bash-completion, zsh and fish look for them.
const (
	manDir  = "share/man/man1"
	bashDir = "share/bash-completion/completions"
	zshDir  = "share/zsh/site-functions"
	fishDir = "share/fish/vendor_completions.d"
)

func install(root *cobra.Command, prefix, version string) error {
	man := filepath.Join(prefix, manDir)
	if err := os.MkdirAll(man, 0o755); err != nil {
		return err
	}
	err := pages(root, version, func(name string, page []byte) error {
		return os.WriteFile(filepath.Join(man, name), page, 0o644)
	})
	if err != nil {
		return err
	}
	for file, write := range map[string]func(io.Writer) error{
		bashDir + "/omnivigil":      func(w io.Writer) error { return root.GenBashCompletionV2(w, true) },
		zshDir + "/_omnivigil":      root.GenZshCompletion,
		fishDir + "/omnivigil.fish": func(w io.Writer) error { return root.GenFishCompletion(w, true) },
	} {
		var text bytes.Buffer
		if err := write(&text); err != nil {
			return err
		}
		file = filepath.Join(prefix, filepath.FromSlash(file))
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(file, text.Bytes(), 0o644); err != nil {
			return err
		}
	}
	return nil
}
