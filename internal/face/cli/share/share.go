// Package share is the commands for a team's shared results: the state of the share, and the keys with which results
// are signed and whose results may be used.
package share

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/api/exit"
	"omnivigil/internal/face/client"
	"omnivigil/internal/plan"
	"omnivigil/internal/store/share"
	"omnivigil/internal/supervisor"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/lazyregexp"
)

// Command returns the command. Open reads the project's settings.
func Command(open func() (*plan.Plan, error)) *cobra.Command {
	asJSON := false
	c := &cobra.Command{
		Use:   "share",
		Short: "Show the share of task results, and manage its keys",
		Long: `Show whether the share in the project's settings answers, whether results are sent to
it, and whose results are used. Results are signed: those of a key that you do not
trust are never used. docs/store.md describes what a share is.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			p, err := open()
			if err != nil {
				return err
			}
			return show(c.Context(), p, asJSON)
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	c.AddCommand(createCommand(), keyCommand(), trustCommand(), untrustCommand())
	return c
}

// state is what the command shows, as JSON.
type state struct {
	URL     string   `json:"url"`
	Answers string   `json:"answers"` // "yes", or why not
	Listed  int      `json:"listed"`  // results of the project that the share is known to have
	Sends   bool     `json:"sends"`
	Trusted []string `json:"trusted"`
	Secret  bool     `json:"secret"` // there is a secret of the team
}

// patience is how long the share may take to answer the command.
const patience = 10 * time.Second

func show(ctx context.Context, p *plan.Plan, asJSON bool) error {
	if p.Share.URL == "" {
		return exit.Refuse(`omnivigil: %s has no share; add share = { url = "https://..." } to [project]`, p.File)
	}
	s, err := supervisor.Share(p, nil)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	recent, err := s.Recent(ctx)
	now := state{URL: p.Share.URL, Answers: "yes", Listed: len(recent), Sends: s.Sign != nil, Secret: len(s.Secret) > 0}
	if err != nil {
		now.Answers = err.Error()
	}
	for _, k := range s.Trusted {
		now.Trusted = append(now.Trusted, k.Name)
	}
	if asJSON {
		return client.PrintJSON(now)
	}
	now.print()
	if err != nil {
		return exit.Quietly(exit.Failed)
	}
	return nil
}

func (s state) print() {
	answers, sends := "answers, "+format.Count(s.Listed, "result")+" listed", "yes"
	trusted, secret := "no keys, so nothing is used", "none: results that depend on secret values are not shared"
	if s.Answers != "yes" {
		answers = "does not answer: " + s.Answers
	}
	if !s.Sends {
		sends = "no"
	}
	if len(s.Trusted) > 0 {
		trusted = format.List(s.Trusted)
	}
	if s.Secret {
		secret = "set"
	}
	for _, line := range [][2]string{
		{"share", s.URL}, {"", answers}, {"sends", sends}, {"trusted", trusted}, {"secret", secret},
	} {
		client.Say(os.Stdout, "%-8s %s", line[0], line[1])
	}
}

func createCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "create",
		Short: "Create a key that signs results, and print its public part",
		Long: `Create a key that signs the results of this user, and print its public part, which
others trust with omnivigil share trust NAME KEY. An existing key is not replaced.
For CI, put the contents of the file into the variable ` + share.KeyVariable + `.`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			file := supervisor.ShareFiles().Key
			private, err := share.CreatePrivate(file)
			switch {
			case errors.Is(err, fs.ErrExist):
				return exit.Refuse("omnivigil: there is a key in %s; omnivigil share key shows its public part", file)
			case err != nil:
				return exit.With(exit.Failed, fmt.Errorf("create the key: %w", err))
			}
			fmt.Fprintf(os.Stderr, "The key is in %s. Its public part:\n", file)
			fmt.Println(share.Key{Public: private.Public().(ed25519.PublicKey)}.Text())
			return nil
		},
	}
}

func keyCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "key",
		Short: "Print the public part of the key that signs results",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			own, err := share.ReadOwn(supervisor.ShareFiles(), os.Getenv)
			switch {
			case err != nil:
				return exit.With(exit.Failed, err)
			case own.Key == nil:
				return exit.Refuse("omnivigil: there is no key; omnivigil share create creates one")
			}
			fmt.Println(share.Key{Public: own.Key.Public().(ed25519.PublicKey)}.Text())
			return nil
		},
	}
}

// keyName is a name for a key: it appears in messages, and is a word of a line.
var keyName = lazyregexp.New(`^[A-Za-z0-9][A-Za-z0-9._@-]{0,40}$`)

func trustCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "trust NAME KEY",
		Short: "Use results that are signed with a key",
		Long: `Use results that are signed with a key, in all of your projects. The name appears
where such a result is used. Trust a key only if you would run the programs that its
owner builds.`,
		Args: cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, words []string) error {
			name := words[0]
			if !keyName.MatchString(name) {
				return exit.Refuse("omnivigil: %q cannot be the name of a key: letters, digits and . _ @ - only", name)
			}
			public, err := share.ParseKey(words[1])
			if err != nil {
				return exit.Refuse("omnivigil: %v", err)
			}
			return changeTrusted(func(keys share.Keys) (share.Keys, error) {
				return append(keys.Without(name), share.Key{Name: name, Public: public}), nil
			})
		},
	}
}

func untrustCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "untrust NAME",
		Short: "Do not use results that are signed with a key",
		Long: `Do not use results that are signed with a key any longer, not even those that were
fetched before. Outputs that were restored stay until their tasks run again.`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, words []string) error {
			return changeTrusted(func(keys share.Keys) (share.Keys, error) {
				left := keys.Without(words[0])
				if len(left) == len(keys) {
					return nil, exit.Refuse("omnivigil: you trust no key with the name %q", words[0])
				}
				return left, nil
			})
		},
	}
}

// changeTrusted changes the keys that the user trusts.
func changeTrusted(change func(share.Keys) (share.Keys, error)) error {
	file := supervisor.ShareFiles().Trusted
	keys, err := share.ReadKeys(file)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	if keys, err = change(keys); err != nil {
		return err
	}
	if err := share.WriteKeys(file, keys); err != nil {
		return exit.With(exit.Failed, fmt.Errorf("store the keys that you trust: %w", err))
	}
	return nil
}
