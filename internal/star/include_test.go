package star

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// files writes the files of a model and returns the path of the first.
func files(t *testing.T, texts map[string]string) string {
	dir := t.TempDir()
	for name, text := range texts {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return filepath.Join(dir, "m.yaml")
}

// TestInclude reads a model in several files, with defaults for folders: whatever the order in which things are
// written, a source has what its folders say, and then what it says itself.
func TestInclude(t *testing.T) {
	m, err := Read(files(t, map[string]string{
		"m.yaml": `
include: ["parts/*.yaml", facts.yaml]
sources:
  own: {read: in/own.csv, csv: {separator: tab}, columns: {code: text, n: {type: integer, unfit: leave_empty}}}
  far: {read: elsewhere.csv, columns: {code: text}}
warehouse: {sqlite: star.db}
defaults:
  in/deep: {csv: {nulls: [x]}, unreadable: pass_over}
  in: {csv: {separator: ";", decimal_mark: ",", nulls: [na, none]}, settle: 30 s}
`,
		"parts/a.yaml": `
sources:
  a: {read: [in/deep/a.csv, in/b.csv], columns: {code: text}}
parameters: {limit: {type: integer, default: 3}}
defaults:
  .: {csv: {quote: "'"}}
`,
		"parts/b.yaml": "\ndimensions:\n  d: {from: a, natural_key: code}\n",
		"facts.yaml":   "facts:\n  f: {from: own, grain: code, keys: {d: {by: code}}, measures: n}\n",
	}), Outside{})
	if err != nil {
		t.Fatal(err)
	}
	own, far, a := m.Sources[1], m.Sources[2], m.Sources[0]
	if own.Text != "own" || own.CSV.Separator != '\t' || own.CSV.Style.Decimal != ',' || own.Settle.Seconds() != 30 || own.CSV.Quote != '"' ||
		strings.Join(own.CSV.Nulls, " ") != "na none" || own.PassOver {
		t.Errorf("%s: %+v", own.Text, own.CSV)
	}
	if a.CSV.Separator != ';' || a.CSV.Quote != '\'' || strings.Join(a.CSV.Nulls, " ") != "x" || !a.PassOver {
		t.Errorf("%s: %+v", a.Text, a.CSV)
	}
	if far.CSV.Separator != ',' || far.Settle > 0 || !far.CSV.Style.IsUsual() {
		t.Errorf("%s: %+v", far.Text, far.CSV)
	}
	if len(m.Facts) != 1 || len(m.Dimensions) != 1 || len(m.Parameters) != 1 || !strings.Contains(m.Text, "grain: code") {
		t.Errorf("%d facts, %d dimensions, %d parameters", len(m.Facts), len(m.Dimensions), len(m.Parameters))
	}
}

// TestIncludeMistakes: a mistake is told in the file in which it stands.
func TestIncludeMistakes(t *testing.T) {
	const top = "include: [b.yaml]\nwarehouse: {sqlite: star.db}\nsources:\n  s: {read: x.csv, columns: {code: text}}\ndimensions:\n  d: {from: s, natural_key: code}\n"
	for _, c := range []struct{ text, want string }{
		{"sources:\n  s: {read: y.csv, columns: {code: text}}\n", "m.yaml:4:3: sources.s: sources is called so already at b.yaml:2:3"},
		{"dimensions:\n  e: {from: t, natural_key: code}\n", "b.yaml:2:13: dimensions.e.from: there is no source t"},
		{"dimensions:\n  e: {from: s, natural_key: cod}\n", "b.yaml:2:29: dimensions.e.natural_key: source s has no column cod"},
		{"warehouse: {sqlite: other.db}\n", "b.yaml:1:1: no such key: warehouse"},
		{"include: m.yaml\n", "b.yaml:1:1: no such key: include"},
		{"sources:\n  t: {read: y.csv, columns: {code: txt}}\n", "b.yaml:2:36: sources.t.columns.code:"},
		{"sources: {t: [\n", "b.yaml:"},
		{"", "b.yaml: the model is empty"},
		{"facts:\n  f: {from: s, grain: code, keys: {d: code}, words: {cod: x}}\n", "b.yaml:2:54: facts.f.words: there is no column cod"},
		{"facts:\n  f: {from: s, grain: code, keys: {d: code}, words: {code: {unit: EUR}}}\n", "b.yaml:2:54: facts.f.words.code.unit: code is of type text, and has no unit"},
		{"defaults:\n  in: {columns: [x]}\n", "b.yaml:2:8: defaults.in: no such key: columns"},
	} {
		file := files(t, map[string]string{"m.yaml": top, "b.yaml": c.text})
		_, err := Read(file, Outside{})
		if said := strings.ReplaceAll(errorText(err), filepath.Dir(file)+"/", ""); !strings.Contains(said, c.want) {
			t.Errorf("%q\n%s\nwant %s", c.text, said, c.want)
		}
	}
	file := files(t, map[string]string{"m.yaml": strings.Replace(top, "b.yaml", "none*.yaml", 1)})
	if _, err := Read(file, Outside{}); !strings.Contains(errorText(err), "include: there is no file none*.yaml in") {
		t.Error(err)
	}
}

func errorText(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}
