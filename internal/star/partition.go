package star

import "ironmonger/internal/diag"

// Partition is how the table of a fact is divided.
type Partition struct {
	Key  *Key  // to a calendar whose keys are yyyymmdd
	Step int64 // how many of these keys one part has room for: those of a day, a month or a year
}

// partitionText is a partition as the model writes it.
type partitionText struct {
	at        diag.Place
	given     bool
	by, every Name
}

// steps is how far the yyyymmdd keys of two days, months or years are from each other.
var steps = map[string]int64{"day": 1, "month": 100, "year": 10000}

func (r *reader) partition(n *node, f *Fact) {
	t := &f.partition
	t.at, t.given = n.key.At, true
	r.section(n, r.partitionEntries(t))
}

func (r *reader) partitionEntries(t *partitionText) []Entry {
	return []Entry{
		{"by", "a name", "a key of the fact, to a calendar whose keys are yyyymmdd. Rows of special members stand in a part of their own", true, func(n *node) { t.by, _ = r.word(n, "a key of the fact") }},
		{"every", "day, month or year", "how many days are in one part", true, func(n *node) {
			t.every = Name{Text: r.choice(n, "day", "month", "year"), At: n.key.At}
		}},
	}
}

// partition completes how a fact is divided.
func (c *checker) partition(f *Fact, path string) {
	t := &f.partition
	if !t.given || t.by.Text == "" || t.every.Text == "" {
		return
	}
	var names []string
	for _, k := range f.Keys {
		names = append(names, k.Text)
		if k.Text != t.by.Text {
			continue
		}
		switch {
		case k.Dimension == nil: // which is told elsewhere
		case k.Dimension.DayKeys() == nil || !k.Dimension.Calendar.Dated():
			c.errorf(t.by.At, path+".by", "key %s does not lead to a calendar whose keys are yyyymmdd", k.Text)
		case k.Missing == LeaveEmpty || k.Unmatched == LeaveEmpty:
			c.errorf(t.by.At, path+".by", "key %s may be empty, and then a row would belong nowhere: missing and unmatched are to lead to a special member", k.Text)
		default:
			f.Partition = &Partition{k, steps[t.every.Text]}
		}
		return
	}
	c.errorf(t.by.At, path+".by", "there is no key %s%s", diag.Printable(t.by.Text), diag.Suggest(t.by.Text, names))
}
