package parse

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
)

var english = Words{Century: 1950, Months: MonthNames(
	[]string{"January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November", "December"},
	[]string{"Jan.", "Feb.", "Mar.", "Apr.", "May", "June", "July", "Aug.", "Sept.", "Oct.", "Nov.", "Dec."},
	[]string{"Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"},
)}

// TestLayouts reads what package time writes in layouts of its own.
func TestLayouts(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 7))
	for _, c := range []struct{ layout, gos string }{
		{"yyyy-MM-dd", "2006-01-02"},
		{"dd/MM/yy", "02/01/06"},
		{"d.M.yyyy", "2.1.2006"},
		{"MMM d, yyyy", "Jan 2, 2006"},
		{"d MMMM yyyy", "2 January 2006"},
		{"dd-MMM-yy", "02-Jan-06"},
		{"yyyyMMdd", "20060102"},
		{"dd.MM.yyyy HH:mm", "02.01.2006 15:04"},
		{"M/d/yyyy h:mm:ss a", "1/2/2006 3:04:05 PM"},
		{"yyyy-MM-ddTHH:mm:ss.SSSSSS", "2006-01-02T15:04:05.000000"},
		{"hh:mm a", "03:04 pm"},
		{"seconds since 1970-01-01", ""},
		{"milliseconds since 1970-01-01", ""},
		{"days since 1899-12-30", ""},
	} {
		kind := column.Date
		switch {
		case strings.HasPrefix(c.layout, "hh"):
			kind = column.Time
		case strings.ContainsAny(c.layout, "Hh") || strings.Contains(c.layout, "since"):
			kind = column.Timestamp
		}
		l, err := NewLayout(c.layout, kind, english)
		if err != nil {
			t.Fatal(c.layout, err)
		}
		reader := NewReader(nil).Styled(&Style{Date: Layouts{l}, Timestamp: Layouts{l}, Time: Layouts{l}})
		for range 2000 {
			at := time.Date(1950, 1, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(r.Int64N(100*365*86400)) * time.Second)
			if strings.Contains(c.layout, "S") || strings.Contains(c.layout, "milli") {
				at = at.Add(time.Duration(r.IntN(1000)) * time.Millisecond)
			}
			text := at.Format(c.gos)
			switch c.layout {
			case "seconds since 1970-01-01":
				text = fmt.Sprint(at.Unix())
			case "milliseconds since 1970-01-01":
				text = fmt.Sprint(at.UnixMilli())
			case "days since 1899-12-30":
				days := float64(at.Unix())/86400 + 25569
				text = fmt.Sprintf("%.12f", days)
			}
			// what the layout tells of the moment
			told := at
			if c.gos != "" {
				if told, err = time.Parse(c.gos, text); err != nil {
					t.Fatal(err)
				}
				if told.Year() > 0 {
					told = time.Date(at.Year(), told.Month(), told.Day(), told.Hour(), told.Minute(), told.Second(), told.Nanosecond(), time.UTC)
				}
			}
			want := told.UnixMicro()
			switch kind {
			case column.Date:
				want = civil.Day(told.Year(), int(told.Month()), told.Day())
			case column.Time:
				want = int64(told.Hour()*60+told.Minute()) * 60e6
			}
			col := column.Column{Type: column.Type{Kind: kind}}
			col.Resize(1)
			if err := reader.Set(&col, 0, text); err != nil || col.Int[0] != want {
				t.Fatalf("%q in %s is read as %s (%v), and is %v", text, c.layout, col.Value(0), err, told)
			}
		}
	}
}

// TestLayoutForms has cases of single layouts, of several, and of mistakes.
func TestLayoutForms(t *testing.T) {
	for _, c := range []struct{ kind, layouts, text, want string }{
		{"date", "MM.yyyy", "02.2025", "2025-02-01"},
		{"date", "MMM yyyy", "sept. 2025", "2025-09-01"},
		{"date", "MMM yyyy", "Sept 2025", "2025-09-01"},
		{"date", "MMM yyyy", "Septembre 2025", "!is not written as MMM yyyy"},
		{"date", "dd/MM/yy", "31/12/49", "2049-12-31"},
		{"date", "dd/MM/yy", "31/12/50", "1950-12-31"},
		{"date", "dd/MM/yyyy|yyyy-MM-dd", "2025-02-28", "2025-02-28"},
		{"date", "dd/MM/yyyy|yyyy-MM-dd", "28.2.2025", "!is not written as dd/MM/yyyy or yyyy-MM-dd"},
		{"date", "dd/MM/yyyy|MM/dd/yyyy", "03/04/2025", "2025-04-03 in doubt"},
		{"date", "dd/MM/yyyy|MM/dd/yyyy", "04/04/2025", "2025-04-04"},
		{"date", "dd/MM/yyyy|MM/dd/yyyy", "03/13/2025", "2025-03-13"},
		{"date", "days since 1899-12-30", "61", "1900-03-01"},
		{"date", "days since 1899-12-30", "45717", "2025-03-01"},
		{"date", "days since 1899-12-30", "1e5", "!is not written as days since 1899-12-30"},
		{"date", "days since 1899-12-30", "99999999999999", "!is not written as days since 1899-12-30"},
		{"timestamp", "days since 1899-12-30", "45717.75", "2025-03-01 18:00:00"},
		{"timestamp", "seconds since 1970-01-01", "-1", "1969-12-31 23:59:59"},
		{"timestamp", "seconds since 1970-01-01", "-1.5", "1969-12-31 23:59:58.5"},
		{"timestamp", "seconds since 1970-01-01", "1.", "!is not written as seconds since 1970-01-01"},
		{"timestamp", "d.M.yyyy h:mm a", "1.3.2025 12:05 am", "2025-03-01 00:05:00"},
		{"timestamp", "d.M.yyyy h:mm a", "1.3.2025 12:05 PM", "2025-03-01 12:05:00"},
		{"timestamp", "d.M.yyyy h:mm a", "1.3.2025 13:05 PM", "!is not written as d.M.yyyy h:mm a"},
		{"timestamp", "d.M.yyyy h:mm a", "1.3.2025 0:05 PM", "!is not written as d.M.yyyy h:mm a"},
		{"time", "h.mm a", "11.59 p.m.", "23:59:00"},
		{"timestamp", "d.M.yyyy h:mm", "", "!!h is an hour of half a day and needs a, which is AM or PM; H is one of the whole day"},
		{"date", "dd.MM", "", "!!the layout of a date needs yyyy"},
		{"date", "yyyy-MM-dd HH", "", "!!the layout has more than a date"},
		{"date", "days since 1970-13-01", "", "!!1970-13-01 is not a day such as 1970-01-01"},
		{"date", "yyyy-MMM-MM", "", "!!M stands twice in the layout"},
		{"time", "seconds since 1970-01-01", "", "!!e has no meaning"},
	} {
		typ, err := column.ParseType(c.kind)
		if err != nil {
			t.Fatal(err)
		}
		var list Layouts
		got := ""
		for text := range strings.SplitSeq(c.layouts, "|") {
			l, err := NewLayout(text, typ.Kind, english)
			if err != nil {
				got = "!!" + err.Error()
			}
			list = append(list, l)
		}
		if got == "" {
			reader := NewReader(nil).Styled(&Style{Date: list, Timestamp: list, Time: list})
			col := column.Column{Type: typ}
			col.Resize(1)
			if err := reader.Set(&col, 0, c.text); err != nil {
				got = "!" + err.Error()
			} else if got = col.Value(0); reader.Ambiguous {
				got += " in doubt"
			}
		}
		if got != c.want && !(c.text == "" && strings.HasPrefix(got, c.want)) {
			t.Errorf("%q as %s in %s: %s, want %s", c.text, c.kind, c.layouts, got, c.want)
		}
	}
}

// TestInstants reads counts of seconds in a zone: they are instants, and counts of days are of its clock.
func TestInstants(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Prague")
	if err != nil {
		t.Fatal(err)
	}
	for layout, c := range map[string][2]string{
		"seconds since 1970-01-01": {"1740830400", "2025-03-01 13:00:00"},
		"days since 1899-12-30":    {"45717.5", "2025-03-01 12:00:00"},
	} {
		l, err := NewLayout(layout, column.Timestamp, Words{})
		if err != nil {
			t.Fatal(err)
		}
		col := column.Column{Type: column.Type{Kind: column.Timestamp}}
		col.Resize(1)
		if err := NewReader(zone).Styled(&Style{Timestamp: Layouts{l}}).Set(&col, 0, c[0]); err != nil || col.Value(0) != c[1] {
			t.Errorf("%s %s: %s, %v, want %s", c[0], layout, col.Value(0), err, c[1])
		}
	}
}

// FuzzLayout reads any text in any layout: what is read is a day and a time of it that there are.
func FuzzLayout(f *testing.F) {
	f.Add("dd.MM.yyyy", "31.12.2024")
	f.Add("d MMM yy h:mm:ss.SSS a", "3 Sept 49 12:00:00.5 am")
	f.Add("days since 1899-12-30", "-45717.999999999999")
	f.Add("microseconds since 0001-01-01", "9223372036854775807")
	f.Fuzz(func(t *testing.T, layout, text string) {
		for _, kind := range []column.Kind{column.Date, column.Timestamp, column.Time} {
			l, err := NewLayout(layout, kind, english)
			if err != nil {
				continue
			}
			m, _, err := Layouts{l}.parse(text)
			if err == nil && kind != column.Time && (m.day < minDay || m.day > maxDay) || err == nil && (m.micros < 0 || m.micros >= civil.DayMicros) {
				t.Fatalf("%q in %q is read as day %d and %d microseconds", text, layout, m.day, m.micros)
			}
		}
	})
}
