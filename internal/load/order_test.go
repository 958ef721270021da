package load_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

// orderedModel is a model of steps that need each other, and what is expected of their order.
type orderedModel struct {
	text  string
	needs map[string][]string // by step, the steps without which it cannot run
	reads map[string]string   // by step, the dimension whose rows its source has
	adds  map[string][]string // by step, the dimensions to which it may add members
}

// randomSteps makes dimensions that are given, made of others or of files, and facts whose rows come from files or from
// a dimension, with keys that infer members or do not.
func randomSteps(r *rand.Rand) *orderedModel {
	m := &orderedModel{needs: map[string][]string{}, reads: map[string]string{}, adds: map[string][]string{}}
	var sources, dimensions, facts string
	source := func(step string, dimensions int) string {
		name := strings.ReplaceAll(step, " ", "_")
		if dimensions == 0 || r.IntN(2) == 0 {
			sources += fmt.Sprintf("  %s: {read: x.csv, columns: {code: text}}\n", name)
			return name
		}
		of := fmt.Sprint("d", r.IntN(dimensions))
		sources += fmt.Sprintf("  %s: {from: dimension %s}\n", name, of)
		m.reads[step] = of
		m.needs[step] = append(m.needs[step], "dimension "+of)
		return name
	}
	key := func(step string, dimensions int) string {
		to, rule := fmt.Sprint("d", r.IntN(dimensions)), "unknown"
		if r.IntN(2) == 0 {
			rule = "infer"
			m.adds[step] = append(m.adds[step], to)
		}
		m.needs[step] = append(m.needs[step], "dimension "+to)
		return fmt.Sprintf("{dimension: %s, by: code, unmatched: %s}", to, rule)
	}
	n := 2 + r.IntN(5)
	for i := range n {
		step := fmt.Sprint("dimension d", i)
		dimensions += fmt.Sprintf("  d%d: {from: %s, natural_key: code", i, source(step, i))
		if i > 0 && r.IntN(3) == 0 {
			dimensions += ", keys: {k: " + key(step, i) + "}"
		}
		dimensions += "}\n"
	}
	for i := range 1 + r.IntN(5) {
		step := fmt.Sprint("fact f", i)
		facts += fmt.Sprintf("  f%d: {from: %s, grain: code, keys: {a: %s, b: %s}}\n", i, source(step, n), key(step, n), key(step, n))
	}
	m.text = "warehouse: {sqlite: star.db}\nsources:\n" + sources + "dimensions:\n" + dimensions + "facts:\n" + facts
	return m
}

// reaches reports whether a step cannot run unless another has, at once or by way of others.
func (m *orderedModel) reaches(step, other string) bool {
	return slices.ContainsFunc(m.needs[step], func(n string) bool { return n == other || m.reaches(n, other) })
}

// TestOrder: a step waits for all that it needs, and for what may add members to the dimension that its source reads,
// unless that needs it or waits for it; and no step waits for itself (rules R30 and R37).
func TestOrder(t *testing.T) {
	manyCases(t, 300, func(t *testing.T, seed uint64) {
		m := randomSteps(rand.New(rand.NewPCG(seed, 30)))
		dir := t.TempDir()
		startest.Write(t, dir, "ironmonger.yaml", m.text)
		waves, waits := map[string]int{}, map[string][]load.Waiting{}
		for _, o := range load.Order(startest.Model(t, dir)) {
			waves[o.Step], waits[o.Step] = o.Wave, o.Waits
		}
		waitsFor := func(step, other string, required bool) bool {
			return slices.ContainsFunc(waits[step], func(w load.Waiting) bool { return w.Step == other && (w.Required || !required) })
		}
		var behind func(step, other string) bool // whether it waits for it, at once or by way of others
		behind = func(step, other string) bool {
			return slices.ContainsFunc(waits[step], func(w load.Waiting) bool { return w.Step == other || behind(w.Step, other) })
		}
		for step, list := range waits {
			for _, w := range list {
				if waves[w.Step] >= waves[step] {
					t.Errorf("%s waits for %s, which does not come before it", step, w.Step)
				}
				if w.Required && !slices.Contains(m.needs[step], w.Step) {
					t.Errorf("%s does not need %s", step, w.Step)
				}
			}
			for _, need := range m.needs[step] {
				if !waitsFor(step, need, true) {
					t.Errorf("%s needs %s, and does not wait for it", step, need)
				}
			}
			for other, adds := range m.adds {
				read := m.reads[step]
				if other == step || !slices.Contains(adds, read) || m.reaches(other, step) || waitsFor(step, other, false) {
					continue
				}
				if !behind(other, step) {
					t.Errorf("%s may add to %s, whose rows %s reads without waiting for it", other, read, step)
				}
			}
		}
		if t.Failed() {
			t.Log(m.text)
		}
	})
}

// TestApart: steps that read what another may change do not run at the same time, though they need not each other.
func TestApart(t *testing.T) {
	const model = `
sources:
  a: {read: x.csv, columns: {code: text, at: date, n: integer}}
  b: {read: y.csv, columns: {code: text, at: date, n: integer}}
  sum: {from: fact one, columns: [n]}
  days: {calendar: {from: 2024-01-01, to: GROWS, attributes: basic}}
dimensions:
  day: {from: days, natural_key: date}
  d: {from: a, natural_key: code}
facts:
  one: {from: a, grain: code, measures: n, keys: {day: {by: at}}}
  two:
    from: b
    grain: code
    measures: n
    MUST
    keys: {d: {by: code, unmatched: unknown}}
`
	for _, x := range []struct{ grows, must, because string }{
		{"2024-12-31", "", ""},
		{"2024-12-31", "must_hold: {equal: {total: n, source: sum, column: n, in_load: stop}}", "look at what it loads"},
		{"2024-12-31", "must_hold: {equal: {total: n, source: sum, column: n}}", ""},
		{"data, at_most: 2030-12-31", "", "add days to a calendar"},
	} {
		dir := t.TempDir()
		startest.Write(t, dir, "ironmonger.yaml", "warehouse: {sqlite: star.db}"+strings.NewReplacer("GROWS", x.grows, "MUST", x.must).Replace(model))
		because := ""
		for _, o := range load.Order(startest.Model(t, dir)) {
			for _, w := range o.Waits {
				if o.Step == "fact two" && w.Step == "fact one" {
					because = w.Because
				}
			}
		}
		if !strings.Contains(because, x.because) || (because == "") != (x.because == "") {
			t.Errorf("%s %s: fact two waits for fact one because: %s", x.grows, x.must, because)
		}
	}
}
