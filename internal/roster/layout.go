package roster

import (
	"ironmonger/internal/column"
)

// Layout says where the columns of a dimension stand in a feed's values: natural key, type 1 attributes and
// what is current of type 2, outrigger keys, attributes of type 0, 3 and 2.
type Layout struct {
	Fields                     []column.Field
	Type1, Type0, Type3, Type2 int // where they begin
	Natural                    int // how many parts the natural key has
}

// Layout lists the columns that a feed takes of each row.
func (x *Roster) Layout() Layout {
	d := x.dim
	f := Layout{Natural: len(d.NaturalKey)}
	f.Fields = append(f.Fields, d.NaturalKey...)
	add := func(chosen func(name string) bool) (from int) {
		from = len(f.Fields)
		for _, a := range d.Attributes() {
			if chosen(a.Name) {
				f.Fields = append(f.Fields, a)
			}
		}
		return from
	}
	of := func(list []column.Field) func(string) bool {
		return func(name string) bool { return column.Find(list, name) >= 0 }
	}
	f.Type1 = add(func(name string) bool { return of(d.Type1)(name) || d.Delivers(name) != name })
	keys := func(type2 bool) {
		for n, k := range d.Keys {
			if k.Type2 == type2 {
				f.Fields = append(f.Fields, d.Outriggers[n])
			}
		}
	}
	keys(false)
	f.Type0, f.Type3, f.Type2 = add(of(d.Type0)), add(of(d.Type3)), add(of(d.Type2))
	keys(true)
	return f
}
