package cli

import (
	"bytes"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"

	"ironmonger/internal/expr"
	"ironmonger/internal/star"
)

var update = flag.Bool("update", false, "write the generated parts of the docs anew")

// TestDocs holds the generated parts of the docs against the code:
// go test ./internal/cli -run TestDocs -update writes them anew.
func TestDocs(t *testing.T) {
	var help bytes.Buffer
	commands := []string{""}
	for _, c := range (&session{out: &printed{to: io.Discard}, err: &printed{to: io.Discard}}).root().Commands {
		commands = append(commands, c.Name)
	}
	for _, command := range commands {
		args := append([]string{"ironmonger"}, strings.Fields(command+" --help")...)
		fmt.Fprintf(&help, "\n## %s\n\n```\n", strings.TrimSpace("ironmonger "+command))
		if status := Main(args, &help, &help); status != 0 {
			t.Errorf("%v: status %d", args, status)
		}
		help.WriteString("```\n")
	}
	section := func(sections *strings.Builder, s star.Section) {
		fmt.Fprintf(sections, "\n## %s\n\n%s\n\n| key | value | meaning |\n| --- | --- | --- |\n", s.Title, s.Doc)
		for _, e := range s.Entries {
			name := "`" + e.Name + "`"
			if e.Required {
				name += " (required)"
			}
			fmt.Fprintf(sections, "| %s | %s | %s |\n", name, e.Form, e.Doc)
		}
	}
	var sections, examples, forms strings.Builder
	for _, s := range star.Sections() {
		section(&sections, s)
	}
	section(&examples, star.ExampleSection())
	forms.WriteString("\n| form | types | nulls |\n| --- | --- | --- |\n")
	for _, f := range expr.Reference() {
		fmt.Fprintf(&forms, "| %s | %s | %s |\n", strings.ReplaceAll(f.Form, "|", `\|`), f.Types, f.Nulls)
	}
	for _, part := range []struct{ file, name, text string }{
		{"commands.md", "help", help.String()}, {"model.md", "sections", sections.String()}, {"model.md", "examples", examples.String()}, {"model.md", "expressions", forms.String()},
	} {
		path := "../../docs/" + part.file
		content, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		before, rest, ok := strings.Cut(string(content), "<!-- generated: "+part.name+" -->\n")
		stands, after, ended := strings.Cut(rest, "<!-- end -->")
		if !ok || !ended {
			t.Fatalf("%s has no part called %s", part.file, part.name)
		}
		if stands == part.text+"\n" {
			continue
		}
		if !*update {
			t.Errorf("%s: the part %s differs from the code", part.file, part.name)
			continue
		}
		text := before + "<!-- generated: " + part.name + " -->\n" + part.text + "\n<!-- end -->" + after
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}
