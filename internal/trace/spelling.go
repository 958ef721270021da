package trace

import (
	"fmt"

	"ironmonger/internal/column"
	"ironmonger/internal/schema"
)

// Natural reads a natural key of a dimension from words: as it stands in the table, and, where the model brings
// natural keys to one form, in the form of what is spelled as it arrives; nil if there is none. Whoever looks for a
// member tries one after the other.
func Natural(d *schema.Dimension, words []string) (exact, spelled []column.Column, err error) {
	what := "the natural key of " + d.Text
	exact, err = Typed(d.NaturalKey, words, what)
	if d.Matching == nil || len(words) != len(d.NaturalKey) {
		return exact, nil, err
	}
	spelled = make([]column.Column, len(words))
	for k, f := range d.NaturalKey {
		given := f
		if d.Source != nil { // the column as it arrives may be of another type
			if at := column.Find(d.Source.Fields(), f.Name); at >= 0 {
				given = d.Source.Fields()[at]
			}
		}
		one, terr := Typed([]column.Field{given}, words[k:k+1], what)
		if terr != nil {
			return exact, nil, err
		}
		if spelled[k] = one[0]; d.Matching[k] == nil {
			continue
		}
		rule, cerr := d.Matching[k].Compile(given.Type)
		if cerr != nil {
			return exact, nil, cerr
		}
		result := rule.Eval(&column.Batch{N: 1, Cols: one})
		if fault := result.Fault(0); fault != "" {
			return exact, nil, fmt.Errorf("%s has no form as a key: %s", words[k], fault)
		}
		spelled[k] = column.Column{Type: result.Type}
		spelled[k].Append(&result.Column, 0)
	}
	if err != nil { // it can only be what arrives
		return spelled, nil, nil
	}
	return exact, spelled, nil
}
