package star

import "ironmonger/internal/column"

// Takes lists the columns of its source that a fact needs: what is wrong with others makes no difference to it.
func (f *Fact) Takes() []string {
	names := append(column.Names(f.Degenerate), column.Names(f.Measures)...)
	if all := f.Deliveries; all != nil && all.On != nil {
		names = append(names, all.On.Name)
	}
	if f.BookedOn != nil {
		names = append(names, f.BookedOn.Name)
	}
	return append(names, f.Source.takenBy(f.Keys)...)
}

// Takes lists the columns of its source that a dimension needs.
func (d *Dimension) Takes() []string {
	names := append(append([]string(nil), d.Delivered...), column.Names(d.Attributes())...)
	for _, f := range []*column.Field{d.Effective, d.Sequence} {
		if f != nil {
			names = append(names, f.Name)
		}
	}
	if d.Deliveries != nil && d.Deliveries.On != nil {
		names = append(names, d.Deliveries.On.Name)
	}
	return append(names, d.Source.takenBy(d.Keys)...)
}

// takenBy lists the columns that keys need, and those by which it is known which rows are new.
func (s *Source) takenBy(keys []*Key) []string {
	var names []string
	for _, k := range keys {
		names = append(append(names, k.By...), k.Unread...)
		if k.AsOf != "" {
			names = append(names, k.AsOf)
		}
	}
	if s == nil {
		return names
	}
	for _, o := range s.Watched() {
		names = append(names, o.Since.Column.Text)
	}
	return names
}
