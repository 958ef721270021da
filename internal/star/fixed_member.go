package star

import (
	"fmt"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/parse"
)

// fixedMember has a key point to one member, whatever a row says: a special one, by the name of its rule, or the one
// with a natural key that the model has. The natural key is then a column of the shaped source that has the same value
// in each row.
func (c *checker) fixedMember(k *Key, s *Source, fields []column.Field) {
	d := k.Dimension
	natural := d.NaturalKey
	if len(k.by) > 0 {
		c.errorf(k.member[0].At, k.subject+".member", "a key has a natural key in its columns (by), or one member")
		return
	}
	if s == nil || len(fields) == 0 || len(natural) == 0 {
		c.errorf(k.member[0].At, k.subject+".member", "the member of such a key cannot be said here")
		return
	}
	special := false
	if len(k.member) == 1 {
		for _, x := range AllSpecials() {
			if special = k.member[0].Text == string(x.Kind); special {
				k.Missing = x.Kind
				break
			}
		}
	}
	if !special && len(k.member) != len(natural) {
		c.errorf(k.member[0].At, k.subject+".member",
			"the natural key of dimension %s has the parts %s, and this has %d; or say unknown, not_yet, not_applicable or unreadable",
			d.Text, strings.Join(column.Names(natural), ", "), len(k.member))
		return
	}
	for n, f := range natural {
		if !special && known(f.Type) {
			one := column.Column{Type: f.Type}
			one.Resize(1)
			if err := parse.NewReader(c.model.Zone).Set(&one, 0, k.member[n].Text); err != nil {
				c.errorf(k.member[n].At, k.subject+".member", "%s: %s %v", f.Name, k.member[n].Text, err)
				return
			}
		}
		e, at := fmt.Sprintf("cast(null as %s)", f.Type), k.member[0].At
		if !special {
			e, at = fmt.Sprintf("cast('%s' as %s)", strings.ReplaceAll(k.member[n].Text, "'", "''"), f.Type), k.member[n].At
		}
		name := fmt.Sprintf("the %s of key %s", f.Name, k.Text)
		rule := &Matching{Name: Name{fields[0].Name, at}, As: Expression{Name{e, at}, &c.parameters}}
		if c.compile(rule.As, k.subject+".member", nil) == nil {
			return
		}
		s.Matched = append(s.Matched, Matched{Name: Name{name, at}, Column: fields[0].Name, Type: f.Type, Rule: rule})
		k.By = append(k.By, name)
	}
}
