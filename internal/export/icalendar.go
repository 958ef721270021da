package export

import (
	"bufio"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"ironmonger/internal/civil"
)

// Event is a day of an iCalendar file.
type Event struct {
	Day      int64 // days since 1970-01-01
	Name     string
	Category string // "" for none
}

// Events writes days as iCalendar (RFC 5545), an event each. The same days make the same file.
func Events(to io.Writer, events []Event) error {
	out := bufio.NewWriter(to)
	line := func(s string) {
		for len(s) > 75 { // octets; what follows is folded, at no character's middle
			cut := 75
			for !utf8.RuneStart(s[cut]) {
				cut--
			}
			out.WriteString(s[:cut] + "\r\n")
			s = " " + s[cut:]
		}
		out.WriteString(s + "\r\n")
	}
	line("BEGIN:VCALENDAR")
	line("VERSION:2.0")
	line("PRODID:-//Ironmonger//calendar//EN")
	of := map[int64]int{}
	for _, e := range events {
		y, m, d := civil.Date(e.Day)
		day := fmt.Sprintf("%04d%02d%02d", y, m, d)
		of[e.Day]++
		line("BEGIN:VEVENT")
		line(fmt.Sprintf("UID:%s-%d@ironmonger", day, of[e.Day]))
		line("DTSTAMP:" + day + "T000000Z")
		line("DTSTART;VALUE=DATE:" + day)
		line("SUMMARY:" + escape(e.Name))
		if e.Category != "" {
			line("CATEGORIES:" + escape(e.Category))
		}
		line("END:VEVENT")
	}
	line("END:VCALENDAR")
	return out.Flush()
}

// escape writes a text as the standard has it.
func escape(s string) string {
	return strings.NewReplacer(`\`, `\\`, ";", `\;`, ",", `\,`, "\r\n", `\n`, "\n", `\n`).Replace(s)
}
