package load_test

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
)

// TestInsideUnion is [TestInside] with sources of two queries of the table, which have their columns in another order, and rules and
// joins of their own.
func TestInsideUnion(t *testing.T) { insideCases(t, unionTogether(5), onPostgres, 30, 1, 4) }

// TestMembersUnion is [TestMembersInside] with two queries of the table.
func TestMembersUnion(t *testing.T) { insideCases(t, membersUnion, onPostgres, 90, 2, 4) }

func membersUnion(t *testing.T, seed uint64, g *ground, loads int) (read, inside int64) {
	return membersOf(newGuild(seed, g.name).inUnion(), t, g, loads)
}

// TestInsideMergingUnion is [TestInsideMerging] with two queries of the table.
func TestInsideMergingUnion(t *testing.T) {
	insideCases(t, stallsTogether(8, (*stalls).inUnion), onPostgres, 44, 1, 3)
}

func (s *stalls) inUnion() {
	columns := "at, no, ware, stall, price, pieces, day, note, paid"
	s.text = inUnion(s.text, "sale", columns, s.pick("coalesce(ware, 'salt') = 'salt'", "coalesce(note, '') = 'big'", "coalesce(stall, '') <> 'S1'"), s.pick)
	if s.r.IntN(3) > 0 {
		of := "database: w, table: " + s.schema
		s.text = strings.NewReplacer("read: places.csv", of+".place", "read: bands.csv", of+".band").Replace(s.text)
		s.text = inUnion(s.text, "place", "town, stall", "stall = 'S1'", s.pick)
		s.text = inUnion(s.text, "band", "until, since, high, low, band, stall", "coalesce(low, 10) = 10", s.pick)
	}
}

func unionTogether(facts int) randomCase {
	return func(t *testing.T, seed uint64, g *ground, loads int) (read, inside int64) {
		c := newClinic(seed, g.name, facts)
		c.text = inUnion(c.text, "visit", "note, urgent, paid, fee, at, day, doctor, ward, no", "coalesce(ward, 'W2') = 'W2'", c.pick)
		return c.load(t, seed, g, loads)
	}
}

func (g *guild) inUnion() *guild {
	pick := func(list ...string) string { return list[g.r.IntN(len(list))] }
	columns := "seq, town, line, wage, since, no, code"
	if g.typed {
		columns += ", grip, at, known"
	}
	g.text = inUnion(g.text, "smith", columns, "coalesce(town, 'T1') = 'T1'", pick)
	return g
}

// inUnion makes sources of a table unions of two of its parts.
func inUnion(text, table, columns, part string, pick func(...string) string) string {
	one := regexp.MustCompile(`  (` + table + `\d*s): \{database: w, (?:table: |query: "select \* from )([\w.]+)[^{]*columns: \{([^}]*)\}(, order_by: \[[^]]*\])?(.*)\}\n`)
	return one.ReplaceAllStringFunc(text, func(source string) string {
		m := one.FindStringSubmatch(source)
		name, rest, own := m[1], strings.Replace(m[5], ", since: no", "", 1), ""
		for _, x := range []string{`, leave_out: \{[^}]*\}`, `, join: \{.*?\}\}`} {
			if some := regexp.MustCompile(x); pick("", "own") != "" {
				own += some.FindString(rest)
				rest = some.ReplaceAllString(rest, "")
			}
		}
		first := fmt.Sprintf(`  %sa: {database: w, query: "select * from %s where %s", columns: {%s}%s%s}`, name, m[2], part, m[3], m[4], own)
		other := fmt.Sprintf(`  %sb: {database: w, query: "select %s from %s where not (%s)", columns: {%s}%s}`, name, columns, m[2], part, m[3], own)
		last := fmt.Sprintf("  %s: {union: [%[1]sa, %[1]sb]%s}\n", name, rest)
		if pick("", "from") != "" {
			last = fmt.Sprintf("  %sc: {union: [%[1]sa, %[1]sb]}\n  %[1]s: {from: %[1]sc%s}\n", name, rest)
		}
		return first + "\n" + other + "\n" + last
	})
}
