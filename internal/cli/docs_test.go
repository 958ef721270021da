package cli

import (
	"bytes"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"

	"ironmonger/internal/calendar"
	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
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
		{"ledger.md", "tables", ledgerTables(t)}, {"calendar.md", "attributes", attributes(t)}, {"calendar.md", "relative", relative()},
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

// attributes describes the attributes of a calendar by sets, with their values of a day.
func attributes(t *testing.T) string {
	t.Helper()
	rule := func(name, on string) calendar.Rule {
		when, err := calendar.ParseWhen(on)
		if err != nil {
			t.Fatal(err)
		}
		return calendar.Rule{Name: name, On: when}
	}
	c := &calendar.Calendar{
		From: civil.Day(2022, 1, 1), To: civil.Day(2027, 12, 31), Fiscal: calendar.Fiscal{Start: 4}, Week: calendar.Week{First: 7, Least: 1},
		Retail: &calendar.Retail{Weekday: 6, Month: 1, Nearest: true, ByStart: true, Pattern: [3]int{4, 5, 4}, Extra: 12},
		Regions: []*calendar.Region{{
			Weekend: []int{6, 7}, Holidays: []calendar.Rule{rule("New Year", "1 january"), rule("Easter Monday", "easter + 1")},
		}},
	}
	for _, s := range calendar.Sets() {
		c.Chosen = append(c.Chosen, s.Name)
	}
	b := column.NewBatch(c.Fields())
	row, err := c.Days(nil, nil).Line(civil.Day(2025, 3, 31)-c.From+1, b)
	if err != nil || row < 0 {
		t.Fatal(row, err)
	}
	var out strings.Builder
	for _, s := range calendar.Sets() {
		fmt.Fprintf(&out, "\n### %s\n\n%s. Source: %s.", s.Name, strings.ToUpper(s.Meaning[:1])+s.Meaning[1:], s.Source)
		if s.Needs != "" {
			fmt.Fprintf(&out, " It needs `%s`.", s.Needs)
		}
		if s.Name == calendar.Basic {
			fmt.Fprintf(&out, " It has %s.\n", strings.Join(calendar.BasicAttributes(), ", "))
			continue
		}
		out.WriteString("\n\n| column | type | meaning | 2025-03-31 |\n| --- | --- | --- | --- |\n")
		for _, a := range c.Attributes() {
			if a.Set != s.Name {
				continue
			}
			value := b.Cols[column.Find(c.Fields(), a.Name)].Value(row)
			fmt.Fprintf(&out, "| `%s` | %s | %s | %s |\n", a.Name, a.Type, a.Meaning, value)
		}
	}
	return out.String()
}

// relative describes the columns of the view that counts from a reference day.
func relative() string {
	var out strings.Builder
	out.WriteString("\n| column | meaning |\n| --- | --- |\n")
	for _, c := range schema.RelativeColumns() {
		meaning := c.Meaning
		if c.Retail {
			meaning += " (with retail years)"
		}
		fmt.Fprintf(&out, "| `%s` | %s |\n", c.Name, meaning)
	}
	return out.String()
}

// ledgerTables lists the tables of the ledger with their columns, all of which have to be described.
func ledgerTables(t *testing.T) string {
	var text strings.Builder
	for _, table := range ledger.WordsOf() {
		fmt.Fprintf(&text, "\n## %s\n\n%s.\n\n| column | meaning |\n| --- | --- |\n", table.Name, strings.ToUpper(table.Says[:1])+table.Says[1:])
		for _, c := range table.Columns {
			if c.Says == "" {
				t.Errorf("%s.%s has no meaning", table.Name, c.Name)
			}
			fmt.Fprintf(&text, "| `%s` | %s |\n", c.Name, c.Says)
		}
	}
	return text.String()
}
