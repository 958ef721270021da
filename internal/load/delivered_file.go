package load

import (
	"context"
	"slices"

	"ironmonger/internal/ledger"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
)

// deliverFiles finds out when the files were delivered of which a column says it (rule R36), and writes it down of
// those that are read for the first time as they are.
func (w *work) deliverFiles(ctx context.Context) error {
	sources := delivering(w.kind.source(), nil)
	if len(sources) == 0 {
		return nil
	}
	known, err := ledger.DeliveredFiles(ctx, w.tx)
	if err != nil {
		return err
	}
	var fresh []ledger.DeliveredFile
	for _, s := range sources {
		states, err := w.inputs.States(s)
		if err != nil {
			return err
		}
		for _, f := range states {
			if w.inputs.IsDelivered(f.FileOf) { // another step of the run has read it
				continue
			}
			is, isNew, err := w.delivered(s, f, known)
			if err != nil {
				return err
			}
			w.inputs.Deliver(f.FileOf, is.Day)
			if isNew {
				fresh = append(fresh, is)
			}
		}
	}
	return ledger.KeepDeliveredFiles(ctx, w.tx, fresh, w.entry.ID)
}

// delivered returns what is to be known of a file, and reports whether that is not known yet.
func (w *work) delivered(
	s *star.Source,
	f source.State,
	known []ledger.DeliveredFile,
) (is ledger.DeliveredFile, isNew bool, err error) {
	is = ledger.DeliveredFile{Source: f.Source, Name: f.Name, Size: f.Size, Changed: f.Changed}
	if day, ok := source.DayInName(f.Name); ok {
		is.Day = day
		return is, false, nil
	}
	at := slices.IndexFunc(known, func(k ledger.DeliveredFile) bool { return k.Source == is.Source && k.Name == is.Name })
	if at >= 0 && known[at].Size == f.Size && known[at].Changed == f.Changed {
		return known[at], false, nil
	}
	if is.Content, err = source.Content(f.Path); err != nil {
		return is, false, err
	}
	same := slices.IndexFunc(known, func(k ledger.DeliveredFile) bool { return k.Source == is.Source && k.Content == is.Content })
	if is.Day = w.inputs.DeliveredNow(s, w.entry.Day()); same >= 0 { // it has been moved or compressed
		is.Day = known[same].Day
	}
	return is, true, nil
}

// delivering lists the sources of which a column says when their files were delivered, among those that one is made of
// or completed with.
func delivering(s *star.Source, list []*star.Source) []*star.Source {
	if s == nil || slices.Contains(list, s) {
		return list
	}
	if s.DeliveredOfFile() {
		list = append(list, s)
	}
	for _, o := range s.Others() {
		list = delivering(o, list)
	}
	return list
}
