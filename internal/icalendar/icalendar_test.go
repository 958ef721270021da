package icalendar

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"ironmonger/internal/civil"
)

var first, last = civil.Day(2025, 1, 1), civil.Day(2026, 12, 31)

func shown(days []Day) string {
	var lines []string
	for _, d := range days {
		lines = append(lines, time.Unix(d.Day*86400, 0).UTC().Format(time.DateOnly)+" "+d.Name+"\n")
	}
	slices.Sort(lines)
	return strings.Join(lines, "")
}

// TestRead holds a file with events of all kinds against the rows that two other libraries make of it, which are
// written down in testdata.
func TestRead(t *testing.T) {
	text, err := os.ReadFile("testdata/days.ics")
	if err != nil {
		t.Fatal(err)
	}
	want, err := os.ReadFile("testdata/days.txt")
	if err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{
		string(text), "\ufeff" + string(text), strings.ReplaceAll(string(text), "\r\n", "\n"), strings.ReplaceAll(string(text), "\r\n", "\r\n\r\n"),
	} {
		if strings.Contains(text, "\r\n\r\n ") { // an empty line ends a fold
			continue
		}
		days, faults, err := Read([]byte(text), first, last)
		if err != nil || len(faults) > 0 {
			t.Fatal(err, faults)
		}
		if got := shown(days); got != string(want) {
			t.Errorf("got\n%s", got)
		}
		if c := days[slices.IndexFunc(days, func(d Day) bool { return d.UID == "single" })].Categories; !slices.Equal(c, []string{"PUBLIC", "North, Upland", "LAW"}) {
			t.Errorf("categories %q", c)
		}
	}
}

func calendarOf(event string) string {
	return "BEGIN:VCALENDAR\nBEGIN:VEVENT\nUID:x\n" + event + "\nEND:VEVENT\nEND:VCALENDAR\n"
}

// TestFaults reads events that are not of whole days, or that the standard does not allow.
func TestFaults(t *testing.T) {
	const on = "DTSTART;VALUE=DATE:20250301\n"
	for event, want := range map[string]string{
		"DTSTART:20250301T100000Z":                        "4 DTSTART has a time of day, and the event is not of whole days",
		"DTSTART;TZID=Made/Up:20250301T000000":            "4 DTSTART has a time of day, and the event is not of whole days",
		"DTSTART;VALUE=DATE:20250230":                     "4 DTSTART is not a date",
		"SUMMARY:x":                                       "2 an event without DTSTART has no day",
		on + "DTEND;VALUE=DATE:20250228":                  "2 the event ends before it begins",
		on + "DTEND;VALUE=DATE:20250303\nDURATION:P1D":    "2 an event has either DTEND or DURATION",
		on + "DURATION:PT24H":                             "5 DURATION of an event of whole days is in days or weeks",
		on + "DURATION:-P1D":                              "5 DURATION of an event of whole days is in days or weeks",
		on + "RDATE;VALUE=PERIOD:20250301T000000Z/P1D":    "5 RDATE has a time of day, and the event is not of whole days",
		on + "RRULE:FREQ=SECONDLY":                        "5 RRULE by secondly is not read: YEARLY, MONTHLY, WEEKLY or DAILY",
		on + "RRULE:COUNT=3":                              "5 RRULE without FREQ",
		on + "RRULE:FREQ=YEARLY;INTERVAL=0":               "5 INTERVAL is not a number from 1 to 10000",
		on + "RRULE:FREQ=YEARLY;COUNT=3;UNTIL=20300101":   "5 RRULE has either COUNT or UNTIL",
		on + "RRULE:FREQ=YEARLY;FREQ=DAILY":               "5 RRULE has FREQ twice",
		on + "RRULE:FREQ=YEARLY;BYHOUR=3":                 `5 RRULE has the part "BYHOUR", which is not read`,
		on + "RRULE:FREQ=YEARLY;BYMONTH=13":               `5 BYMONTH has "13", which is not a number from 1 to 12`,
		on + "RRULE:FREQ=WEEKLY;BYDAY=2MO":                "5 RRULE has a number in BYDAY, which goes with months and years",
		on + "RRULE:FREQ=YEARLY;BYDAY=XX":                 `5 BYDAY has "XX", which is not a weekday`,
		on + "RRULE:FREQ=YEARLY;BYSETPOS=1":               "5 RRULE has BYSETPOS without another BY",
		on + "RRULE:FREQ=MONTHLY;BYWEEKNO=3":              "5 RRULE has a part that does not go with its FREQ",
		on + "RECURRENCE-ID;RANGE=THISANDFUTURE:20250301": "5 RECURRENCE-ID for this and what follows is not read",
		on + "EXRULE:FREQ=YEARLY":                         "5 EXRULE is not read: the standard has dropped it",
	} {
		days, faults, err := Read([]byte(calendarOf(event)), first, last)
		if err != nil || len(days) > 0 || len(faults) != 1 || fmt.Sprint(faults[0].Line, " ", faults[0].Reason) != want {
			t.Errorf("%q: %v, %v, %v; want %s", event, days, faults, err, want)
		}
	}
	for event, want := range map[string]string{
		on + "DTEND;VALUE=DATE:20250301":                           "it ends on the day on which it begins, and is taken as one day",
		on + "RRULE:FREQ=YEARLY;BYMONTH=4;BYMONTHDAY=1":            "its rule does not have its first day, which is taken, too",
		"DTSTART;VALUE=DATE:20250302\nRRULE:FREQ=YEARLY;BYDAY=1MO": "its rule does not have its first day, which is taken, too",
	} {
		days, faults, err := Read([]byte(calendarOf(event)), first, last)
		if err != nil || len(faults) > 0 || len(days) == 0 || days[0].Remark != want {
			t.Errorf("%q: %v, %v, %v", event, days, faults, err)
		}
	}
}

// TestErrors reads files that are damaged or hostile: each is told with its place, within bounds.
func TestErrors(t *testing.T) {
	whole := calendarOf("DTSTART;VALUE=DATE:20250301\nSUMMARY:x")
	never := strings.Repeat("END:VEVENT\nBEGIN:VEVENT\nDTSTART:20250101\nRRULE:FREQ=MONTHLY;BYDAY=5MO;BYSETPOS=3\n", 20)
	daily := strings.Repeat("END:VEVENT\nBEGIN:VEVENT\nDTSTART:19000101\nRRULE:FREQ=DAILY\n", 100)
	for text, want := range map[string]string{
		"":                       "line 1, column 1: this is not an iCalendar file: it is empty",
		"a,b\n1,2\n":             "line 1, column 2: this is not a line of iCalendar",
		"DTSTART:20250101\n":     "line 1, column 1: this is not an iCalendar file: it does not begin",
		"BEGIN:VCARD\nEND:VCARD": "line 1, column 1: this is not an iCalendar file: it does not begin",
		whole[:len(whole)-15]:    "line 6, column 1: the file is cut off: END:VCALENDAR is missing",
		whole[:29]:               "the file is cut off: END:VEVENT is missing",
		strings.Replace(whole, "END:VEVENT", "END:VTODO", 1):               "line 6, column 1: END:VTODO ends what began as VEVENT",
		strings.Replace(whole, "SUMMARY:x", "SUMMARY;LANGUAGE=de", 1):      "line 5, column 9: the line has no value",
		strings.Replace(whole, "SUMMARY:x", "SUMMARY:\xc3", 1):             "line 5, column 1: the text is not UTF-8",
		strings.Repeat("BEGIN:VCALENDAR\n", 20):                            "line 17, column 1: more than 16 components",
		strings.Replace(whole, ":x", ":"+strings.Repeat("x\n ", 1<<20), 1): "a line of more than 1048576 bytes",
		calendarOf("DTSTART:20250101\n" + never[:len(never)-1]):            "more than 10 rules that have no day",
		calendarOf("DTSTART:20250101\n" + daily[:len(daily)-1]):            "more than 2000000 occurrences",
	} {
		started := time.Now()
		_, _, err := Read([]byte(text), civil.Day(1900, 1, 1), civil.Day(2199, 12, 31))
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.60q: %v, want %s", text, err, want)
		}
		if took := time.Since(started); took > 20*time.Second {
			t.Errorf("%.60q took %v", text, took)
		}
	}
	started := time.Now() // what cannot be is seen at once
	for _, rule := range []string{"FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", "FREQ=DAILY;BYMONTH=4;BYMONTHDAY=31", "FREQ=MONTHLY;BYMONTHDAY=31;BYMONTH=6"} {
		text := calendarOf("DTSTART:20250101\n" + strings.TrimSuffix(strings.Repeat("END:VEVENT\nBEGIN:VEVENT\nDTSTART:20250101\nRRULE:"+rule+"\n", 50), "\n"))
		if _, faults, err := Read([]byte(text), first, last); err != nil || len(faults) > 0 {
			t.Error(rule, faults, err)
		}
	}
	if took := time.Since(started); took > 2*time.Second {
		t.Errorf("rules without a day took %v", took)
	}
}

func FuzzRead(f *testing.F) {
	text, err := os.ReadFile("testdata/days.ics")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(text)
	for _, event := range strings.SplitAfter(string(text), "END:VEVENT\r\n") {
		f.Add([]byte("BEGIN:VCALENDAR\r\n" + event + "END:VCALENDAR\r\n"))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		days, _, err := Read(text, first, first+400)
		for _, d := range days {
			if err != nil || d.Day < first || d.Day > first+400 {
				t.Fatal(d, err)
			}
		}
	})
}
