package cli

import (
	"fmt"

	"github.com/spf13/cobra"
)

// bashWords is appended to the script for bash, which takes the words of the line from functions of the package
// bash-completion. Few containers and no Mac have it. This replaces the script's own function for that case.
const bashWords = `
# Without the package bash-completion, the words are what blanks separate, up to the cursor.
__omnivigil_init_completion()
{
    COMPREPLY=()
    read -ra words <<<"${COMP_LINE:0:COMP_POINT}"
    [[ ${COMP_LINE:COMP_POINT-1:1} == [[:space:]] ]] && words+=("")
    cword=$((${#words[@]} - 1))
    cur=${words[cword]} prev=${words[cword > 0 ? cword - 1 : 0]}
}
`

// withoutPackages lets the completion of bash work where no package for it is installed.
func withoutPackages(root *cobra.Command) {
	root.InitDefaultCompletionCmd("completion")
	bash, _, err := root.Find([]string{"completion", "bash"})
	if err != nil || bash.RunE == nil {
		return
	}
	script := bash.RunE
	bash.RunE = func(cmd *cobra.Command, args []string) error {
		if err := script(cmd, args); err != nil {
			return err
		}
		_, err := fmt.Fprint(cmd.OutOrStdout(), bashWords)
		return err
	}
}
