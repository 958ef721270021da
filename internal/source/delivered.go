package source

import (
	"maps"
	"path"
	"regexp"
	"strings"
	"sync"
	"time"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/parse"
	"ironmonger/internal/star"
)

// delivered is when files were delivered.
type delivered struct {
	mu sync.RWMutex
	on map[FileOf]int64
}

// Deliver notes on which day a file of a source was delivered.
func (in *Inputs) Deliver(f FileOf, day int64) {
	in.delivered.mu.Lock()
	defer in.delivered.mu.Unlock()
	if in.delivered.on == nil {
		in.delivered.on = map[FileOf]int64{}
	}
	in.delivered.on[f] = day
}

// IsDelivered reports whether it was noted when a file of a source was delivered.
func (in *Inputs) IsDelivered(f FileOf) bool {
	in.delivered.mu.RLock()
	defer in.delivered.mu.RUnlock()
	_, ok := in.delivered.on[f]
	return ok
}

// noted returns a copy of what was noted.
func (in *Inputs) noted() map[FileOf]int64 {
	in.delivered.mu.RLock()
	defer in.delivered.mu.RUnlock()
	return maps.Clone(in.delivered.on)
}

// DeliveredOn returns the day on which a file of a source was delivered (rule R36): as was noted, or as a load would
// note.
func (in *Inputs) DeliveredOn(s *star.Source, name string) int64 {
	in.delivered.mu.RLock()
	day, ok := in.delivered.on[FileOf{s.Text, name}]
	in.delivered.mu.RUnlock()
	if ok {
		return day
	}
	if day, ok := DayInName(name); ok {
		return day
	}
	return in.DeliveredNow(s, civil.DayOf(time.Now().UnixMicro()))
}

// DeliveredNow returns the day on which files of a source are delivered that a run of some day reads for the first
// time.
func (in *Inputs) DeliveredNow(s *star.Source, today int64) int64 {
	if s.DeliveredBy == nil {
		return today
	}
	value, err := in.Model.Bound(s.DeliveredBy.Text)
	if err != nil || value.Text == "" {
		return today
	}
	c := column.Column{Type: column.Type{Kind: column.Date}}
	c.Resize(1)
	if err := parse.NewReader(nil).Set(&c, 0, value.Text); err != nil {
		return today
	}
	return c.Int[0]
}

// dayInName is a date that no other digits touch.
var dayInName = regexp.MustCompile(`(?:^|[^0-9])([0-9]{4})(-?)([0-9]{2})(-?)([0-9]{2})(?:[^0-9]|$)`)

// DayInName returns the last date that the last part of a path has.
func DayInName(name string) (day int64, ok bool) {
	base := path.Base(strings.ReplaceAll(name, `\`, "/"))
	for from := 0; from < len(base); {
		m := dayInName.FindStringSubmatchIndex(base[from:])
		if m == nil {
			break
		}
		part := func(n int) string { return base[from+m[2*n] : from+m[2*n+1]] }
		c := column.Column{Type: column.Type{Kind: column.Date}}
		c.Resize(1)
		if part(2) == part(4) && parse.NewReader(nil).Set(&c, 0, part(1)+"-"+part(3)+"-"+part(5)) == nil && !c.Null[0] {
			day, ok = c.Int[0], true
		}
		from += m[3] // behind the year, since dates may share a mark
	}
	return day, ok
}
