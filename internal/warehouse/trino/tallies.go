package trino

import (
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/warehouse"
)

// A statement takes a tenth of a second, and many would ask for what is known: that a table that was just made has no rows, or
// what was counted a moment ago. A pointer of a table leads to the same for ever, so that it is kept in mind.

// tallyOf is what a tally is of: where a pointer leads, and the columns that are added up.
type tallyOf struct {
	location string
	measures string
}

// tallied returns the tally of what a pointer leads to, if it is known. Of no rows, nothing adds up.
func (db *DB) tallied(at pointer, measures []column.Field) (warehouse.Tally, bool) {
	if db.isEmpty(at) {
		return warehouse.Tally{Totals: make([]exact.Int128, len(measures))}, true
	}
	db.mu.Lock()
	defer db.mu.Unlock()
	t, ok := db.tallies[tallyOf{at.location, quoteAll(column.Names(measures), "%")}]
	t.Totals = slices.Clone(t.Totals)
	return t, ok
}

// isEmpty reports whether a pointer is known to lead to a table without rows.
func (db *DB) isEmpty(at pointer) bool {
	db.mu.Lock()
	defer db.mu.Unlock()
	t, ok := db.tallies[tallyOf{at.location, ""}]
	return ok && t.Rows == 0
}

// keepTally keeps a tally in mind. What a view has depends on other tables.
func (db *DB) keepTally(at pointer, measures []column.Field, t warehouse.Tally) {
	if at.location == "" || at.kind != "TABLE" {
		return
	}
	db.mu.Lock()
	defer db.mu.Unlock()
	if db.tallies == nil {
		db.tallies = map[tallyOf]warehouse.Tally{}
	}
	t.Totals = slices.Clone(t.Totals)
	db.tallies[tallyOf{at.location, quoteAll(column.Names(measures), "%")}] = t
	if t.Rows == 0 {
		db.tallies[tallyOf{at.location, ""}] = warehouse.Tally{}
	}
}
