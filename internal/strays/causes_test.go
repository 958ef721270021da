package strays_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/schema"
	"ironmonger/internal/startest"
	"ironmonger/internal/strays"
)

// TestCauses loads facts whose natural keys are spoilt, each in one way, for each rule about unmatched keys; finds out
// why; and puts what would mend it into the model: then another load of the same files has no such stray.
func TestCauses(t *testing.T) {
	const model = `warehouse: {sqlite: star.db}
limits: {set_aside: none, unmatched: none}
sources:
  depots: {read: depots.csv, columns: {code: text, town: text}}
  runs: {read: "runs/*.csv", columns: {no: integer, depot: text, tons: integer}}
dimensions:
  depot:
    from: depots
    natural_key: code
    %s
facts:
  run: {from: runs, grain: no, keys: {depot: {by: depot, unmatched: %s}}, measures: tons}
`
	spoilt := map[string]func(code string) string{
		"written differently: blanks":                                              func(code string) string { return " " + code },
		"written differently: upper and lower case":                                strings.ToLower,
		"written differently: leading zeros":                                       func(code string) string { return strings.Replace(code, "-", "-00", 1) },
		"written differently: separators":                                          func(code string) string { return strings.Replace(code, "-", ".", 1) },
		"written differently: upper and lower case, separators":                    func(code string) string { return strings.ToLower(strings.Replace(code, "-", "", 1)) },
		"written differently: a character that looks like another":                 func(code string) string { return strings.Replace(code, "K", "\u041a", 1) },
		"one or two characters are others":                                         func(code string) string { return "Y" + code },
		"one character is another or too many, and several members would be meant": func(code string) string { return code + "7" },
		"no member is like it":                                                     func(code string) string { return "ELSEWHERE" + code[4:] },
	}
	for what, spoil := range spoilt {
		for rule, outcome := range map[string]string{"infer": "inferred", "unknown": "no member yet", "set_aside": "set aside"} {
			dir := t.TempDir()
			startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(model, "", rule))
			depots, runs := "code,town\n", "no,depot,tons\n"
			for n := range 60 {
				code := fmt.Sprintf("KM%c-%d", 'A'+n%26, 37*n+101)
				depots += fmt.Sprintf("%s,T\n%s8,T\n%s9,T\n", code, code, code)
				if runs += fmt.Sprintf("%d,%s,1\n", n, code); n%6 == 0 {
					runs += fmt.Sprintf("%d,%s,1\n%d,%s,1\n", 1000+n, spoil(code), 2000+n, spoil(code))
				}
			}
			startest.Write(t, dir, "depots.csv", depots)
			startest.Write(t, dir, "runs/1.csv", runs)
			found := func() []strays.Cause {
				t.Helper()
				if _, err := startest.Load(t, dir, load.Options{}); err != nil {
					t.Fatal(err)
				}
				db := startest.Open(t, dir)
				defer db.Close()
				causes, err := strays.Causes(context.Background(), db, schema.New(startest.Model(t, dir)))
				if err != nil {
					t.Fatal(err)
				}
				return causes
			}
			causes := found()
			if len(causes) != 1 || causes[0].What != what || causes[0].Keys != 10 || causes[0].Rows != 20 || causes[0].Outcome[0] != outcome {
				t.Fatalf("%s, %s: %+v", what, rule, causes)
			}
			c := causes[0]
			if place := fmt.Sprint(c.File, ":", c.Line); place != "runs/1.csv:3" {
				t.Errorf("%s, %s: the first stands at %s", what, rule, place)
			}
			if c.Mend == "" {
				if c.Kind != "nothing" && c.Member != "" {
					t.Errorf("%s: nothing mends it", what)
				}
				continue
			}
			if c.Mended != c.Keys || c.Merged > 0 {
				t.Errorf("%s: %s mends %d, and merges %d", what, c.Mend, c.Mended, c.Merged)
			}
			mended := t.TempDir()
			startest.Write(t, mended, "ironmonger.yaml", fmt.Sprintf(model, c.Mend, rule))
			startest.Write(t, mended, "depots.csv", depots)
			startest.Write(t, mended, "runs/1.csv", runs)
			dir = mended
			if left := found(); len(left) > 0 {
				t.Errorf("%s, %s: %s leaves %+v", what, rule, c.Mend, left)
			}
		}
	}
}
