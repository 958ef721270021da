package star

import (
	"ironmonger/internal/calendar"
)

// Events says which events of iCalendar files are read.
type Events struct {
	From, To   int64 // the days of which there is a row
	Categories []string

	from, to bool // they are given
}

func (r *reader) eventEntries(s *Source) []Entry {
	return []Entry{
		{
			"from",
			"a date",
			"the first day; the default is a year before the first day of all calendars of the model",
			false,
			func(n *node) { s.Events.From, s.Events.from = r.day(n), true },
		},
		{
			"to",
			"a date",
			"the last day: rules of events have no end; the default is a year after the last day of all calendars of the model",
			false,
			func(n *node) { s.Events.To, s.Events.to = r.day(n), true },
		},
		{
			"categories",
			"a list",
			"only events that have one of these categories, letter case aside",
			false,
			func(n *node) {
				for _, w := range r.words(n, "a category") {
					s.Events.Categories = append(s.Events.Categories, w.Text)
				}
			},
		},
	}
}

// events completes which events of iCalendar files are read.
func (c *checker) events(s *Source, path string) {
	e := &s.Events
	if s.Format != ICalendar {
		if e.from || e.to || e.Categories != nil {
			c.errorf(s.At, path+".events", "events are those of iCalendar files")
		}
		return
	}
	any := false
	for _, cal := range c.model.calendars() {
		from, to := cal.Limits()
		from, to = from-calendar.Beyond, to+calendar.Beyond
		if !e.from && (!any || from < e.From) {
			e.From = from
		}
		if !e.to && (!any || to > e.To) {
			e.To = to
		}
		any = true
	}
	switch {
	case !any && !(e.from && e.to):
		c.errorf(s.At, path+".events", "from and to are missing: the model has no calendar that tells which days are needed")
	case e.to && e.from && e.To < e.From:
		c.errorf(s.At, path+".events", "to is before from")
	}
}

// OwnCalendars lists the sources of the calendars that dimensions declare themselves.
func (m *Model) OwnCalendars() []*Source {
	var list []*Source
	for _, d := range m.Dimensions {
		if d.text.calendar != nil {
			list = append(list, d.text.calendar)
		}
	}
	return list
}

// calendars lists the calendars of sources and dimensions.
func (m *Model) calendars() []*Calendar {
	var list []*Calendar
	for _, s := range m.Sources {
		if s.Calendar != nil {
			list = append(list, s.Calendar)
		}
	}
	for _, s := range m.OwnCalendars() {
		list = append(list, s.Calendar)
	}
	return list
}
