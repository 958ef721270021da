package cause

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"golang.org/x/text/unicode/norm"
)

// planted is a way in which a natural key is spoilt, and what is to be found then.
var planted = []struct {
	name  string
	kind  Kind
	spoil func(r *rand.Rand, key []string) []string
}{
	{"blanks", Written, func(r *rand.Rand, key []string) []string { return []string{key[0], " " + key[1] + "\u00a0"} }},
	{"upper and lower case", Written, func(r *rand.Rand, key []string) []string { return []string{key[0], strings.ToLower(key[1])} }},
	{"leading zeros", Written, func(r *rand.Rand, key []string) []string {
		at := strings.LastIndex(key[1], "-") + 1
		return []string{key[0], key[1][:at] + "00" + key[1][at:]}
	}},
	{"separators", Written, func(r *rand.Rand, key []string) []string {
		return []string{key[0], strings.ReplaceAll(key[1], "-", "/")}
	}},
	{"another form in Unicode", Written, func(r *rand.Rand, key []string) []string { return []string{key[0], norm.NFD.String(key[1])} }},
	{"a character that looks like another", Written, func(r *rand.Rand, key []string) []string {
		return []string{key[0], strings.NewReplacer("K", "К", "7", "7").Replace(key[1])} // the first is Cyrillic
	}},
	{"upper and lower case, separators", Written, func(r *rand.Rand, key []string) []string {
		return []string{key[0], strings.ToLower(strings.ReplaceAll(key[1], "-", " "))}
	}},
	{"another register", Part, func(r *rand.Rand, key []string) []string { return []string{"Q", key[1]} }},
	{"one letter more", Near, func(r *rand.Rand, key []string) []string {
		return []string{key[0], key[1][:2] + "W" + key[1][2:]}
	}},
	{"two letters exchanged", Near, func(r *rand.Rand, key []string) []string {
		b := []byte(key[1])
		b[0], b[1] = b[1], b[0]
		return []string{key[0], string(b)}
	}},
	{"nothing", NothingNear, func(r *rand.Rand, key []string) []string {
		return []string{key[0], fmt.Sprintf("ZZZZZZ%06d", r.IntN(1_000_000))}
	}},
}

// TestFind spoils natural keys in known ways: each way is found again, with the very member.
func TestFind(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	var members [][]string
	taken := map[string]bool{}
	for len(members) < 3000 {
		key := fmt.Sprintf("%c%c%cK%s-%d", 'A'+r.IntN(26), 'A'+r.IntN(26), 'A'+r.IntN(26), []string{"É", "Ü", "X"}[len(members)%3], 1000+r.IntN(9000))
		if !taken[key] {
			taken[key] = true
			members = append(members, []string{[]string{"N", "S"}[r.IntN(2)], key})
		}
	}
	x := NewIndex(members)
	right, all := map[string]int{}, map[string]int{}
	for range 4000 {
		n := r.IntN(len(members))
		p := planted[r.IntN(len(planted))]
		lost := p.spoil(r, members[n])
		if lost[0] == members[n][0] && lost[1] == members[n][1] {
			continue
		}
		all[p.name]++
		c := x.Find(lost)
		if c.Kind == p.kind && (c.Member == n || p.kind == NothingNear && c.Member < 0) && (p.kind != Written || c.steps.String() == p.name) {
			right[p.name]++
		}
	}
	for _, p := range planted {
		t.Logf("%s: %d of %d", p.name, right[p.name], all[p.name])
		if all[p.name] == 0 || right[p.name]*100 < 97*all[p.name] {
			t.Errorf("%s: %d of %d are found", p.name, right[p.name], all[p.name])
		}
	}
}

// TestSteps: what one step does to a text is what its expression says; see the tests of strays for the expressions
// themselves.
func TestSteps(t *testing.T) {
	for _, c := range []struct {
		s          set
		text, want string
	}{
		{1 << blanks, "  a \t b ", "a b"},
		{1 << zeros, "007-0080", "7-80"},
		{1 << zeros, "000", "0"},
		{1 << zeros, "a0b00", "a0b0"},
		{1 << marks, "L-01/a.b", "L01ab"},
		{1 << alike, "lOS", "105"},
		{1 << composed, "E\u0301", "É"},
	} {
		if got := c.s.apply(c.text); got != c.want {
			t.Errorf("%s of %q is %q, want %q", c.s, c.text, got, c.want)
		}
	}
	if got, want := distance("abcdef", "abdcef", 2), 1; got != want {
		t.Errorf("%d, want %d", got, want)
	}
	if len([]rune(lookalikes)) != len([]rune(latin)) {
		t.Error("each character that looks like another has one that it looks like")
	}
}

// BenchmarkFind is how long it takes to find out about a natural key, of 100,000 members.
func BenchmarkFind(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 2))
	var members [][]string
	for n := range 100_000 {
		members = append(members, []string{"N", fmt.Sprintf("NV-%05d", n)})
	}
	x := NewIndex(members)
	b.ResetTimer()
	for n := range b.N {
		p := planted[n%len(planted)]
		x.Find(p.spoil(r, members[r.IntN(len(members))]))
	}
}
