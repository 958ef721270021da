package star

import (
	"strconv"

	"go.yaml.in/yaml/v3"
)

// specials reads the special members that are not as usual.
func (r *reader) specials(n *node, d *Dimension) {
	r.each(n, func(n *node) {
		for _, s := range AllSpecials() {
			if n.key.Text != string(s.Kind) {
				continue
			}
			if n.Kind == yaml.MappingNode {
				r.section(n, r.specialEntries(&s))
			} else if w, ok := r.word(n, "a label"); ok {
				s.Label = w.Text
			}
			if s.Label == "" {
				r.errorf(n.key.At, n.path, "a special member has a label")
			}
			d.text.specials = append(d.text.specials, s)
			return
		}
		r.errorf(n.key.At, n.path, "there is no special member %s (there is: %s, %s, %s, %s)", n.key.Text, ToUnknown, ToNotYet, NotApplying, ToUnreadable)
	})
	keys := map[int64]bool{}
	for _, s := range AllSpecials() {
		key := d.Special(s).Key
		if keys[key] {
			r.errorf(n.key.At, n.path, "two special members have the key %d", key)
		}
		keys[key] = true
	}
}

func (r *reader) specialEntries(s *Special) []Entry {
	return []Entry{
		{"label", "a text", "what its text attributes say", false, func(n *node) {
			w, _ := r.word(n, "a label")
			s.Label = w.Text
		}},
		{"key", "a negative number", "its surrogate key", false, func(n *node) {
			w, ok := r.word(n, "a number")
			key, err := strconv.ParseInt(w.Text, 10, 64)
			if ok && (err != nil || key >= 0 || key < -mostKey) {
				r.errorf(w.At, n.path, "%s is not a negative number: the keys of members are positive", w.Text)
				return
			}
			s.Key = key
		}},
		{
			"sorts",
			"first or last",
			"of a calendar: whether its sort_order is before those of all dates, or after them (the default)",
			false,
			func(n *node) { s.First = r.choice(n, "first", "last") == "first" },
		},
	}
}
