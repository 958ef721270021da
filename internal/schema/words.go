package schema

import (
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// Word is what a model says in words of a table or a column.
type Word struct {
	Table  string `json:"table"`
	Column string `json:"column,omitempty"` // "" for the table as a whole
	star.Words
}

// WordsOf lists what a model says in words of the tables of its dimensions and facts, in the order of their columns.
func (s *Star) WordsOf() []Word {
	list := []Word{}
	add := func(t *warehouse.Table, d *star.Described, of func(column string) star.Words) {
		if d.Words != (star.Words{}) {
			list = append(list, Word{Table: t.Name, Words: d.Words})
		}
		for _, c := range t.Columns {
			if w := of(c.Name); w != (star.Words{}) {
				list = append(list, Word{t.Name, c.Name, w})
			}
		}
	}
	for _, d := range s.Dimensions {
		if d.LookedUp == nil {
			add(d.Table, &d.Said, named(d.Keys, d.Dimension.WordsOf))
		}
	}
	for _, f := range s.Facts {
		add(f.Table, &f.Said, named(f.Keys, f.Fact.WordsOf))
	}
	return list
}

// named returns the words of a column of a table: those of the key whose column it is, or of the column of that name.
func named(keys []*star.Key, of func(string) star.Words) func(column string) star.Words {
	return func(name string) star.Words {
		for _, k := range keys {
			if k.Column() == name {
				return of(k.Text)
			}
		}
		return of(name)
	}
}

// describe gives the tables what the model says of them in words.
func (s *Star) describe() {
	tables := map[string]*warehouse.Table{}
	for _, d := range s.Dimensions {
		tables[d.Table.Name] = d.Table
	}
	for _, f := range s.Facts {
		tables[f.Table.Name] = f.Table
	}
	for _, w := range s.WordsOf() {
		t := tables[w.Table]
		if t.Words == nil {
			t.Words = map[string]string{}
		}
		t.Words[w.Column] = w.String()
	}
}
