package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/star"
)

// bashCompletion is a completion script that needs nothing but bash.
const bashCompletion = `# completion of ironmonger for bash: source <(ironmonger completion bash)
_ironmonger() {
  local word="${COMP_WORDS[COMP_CWORD]}" line
  local -a call=("${COMP_WORDS[@]:0:COMP_CWORD}")
  [[ "$word" == -* ]] && call+=("$word")
  COMPREPLY=()
  while IFS= read -r line; do
    line="${line%%:*}"
    [[ "$line" == "$word"* ]] && COMPREPLY+=("$line")
  done < <("${call[@]}" --generate-shell-completion 2>/dev/null)
}
complete -o default -F _ironmonger ironmonger
`

// completion returns the command that writes completion scripts ours for bash, which does not want the package of
// completions that not every machine has.
func (s *session) completion(c *cli.Command) {
	for _, shell := range c.Commands {
		if shell.Name == "bash" {
			shell.Action = func(context.Context, *cli.Command) error {
				_, err := io.WriteString(s.raw, bashCompletion)
				return err
			}
		}
	}
}

// completes has a command complete the names of things of the model, besides its options.
func completes(names func(m *star.Model) []string) cli.ShellCompleteFunc {
	return func(ctx context.Context, c *cli.Command) {
		if args := c.Args(); args.Len() > 0 && strings.HasPrefix(args.Get(args.Len()-1), "-") {
			cli.DefaultCompleteWithFlags(ctx, c)
			return
		}
		file := c.String("model")
		m, _ := star.ReadNames(file) // what is wrong with it is told elsewhere
		if m == nil {
			return
		}
		for _, name := range names(m) {
			fmt.Fprintln(c.Root().Writer, name)
		}
	}
}

// dimensionNames, factNames and sourceNames list what a model has.
func dimensionNames(m *star.Model) (names []string) {
	for _, d := range m.Dimensions {
		names = append(names, d.Text)
	}
	return names
}

func factNames(m *star.Model) (names []string) {
	for _, f := range m.Facts {
		names = append(names, f.Text)
	}
	return names
}

func sourceNames(m *star.Model) (names []string) {
	for _, s := range m.Sources {
		names = append(names, s.Text)
	}
	return names
}

// loadableNames lists what a load loads.
func loadableNames(m *star.Model) []string { return append(dimensionNames(m), factNames(m)...) }

// noModel says how to begin, where there is no model.
func noModel(file string) string {
	if _, err := os.Stat(file); err == nil || file != "ironmonger.yaml" {
		return "--model names it"
	}
	if found, _ := filepath.Glob("*/ironmonger.yaml"); len(found) > 0 {
		return fmt.Sprintf("--model names it, such as --model %s", found[0])
	}
	return "--model names it; ironmonger demo canal writes one to begin with, and ironmonger schema says what a model has"
}
