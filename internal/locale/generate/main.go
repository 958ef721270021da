// Command generate writes the table of names and patterns that package locale embeds. It is run by hand when the data
// of the Unicode CLDR changes:
//
//	go run ./internal/locale/generate -dates DIR -core DIR -out internal/locale/names.gz
//
// The folders are the unpacked packages cldr-dates-full and cldr-core, in which the CLDR project publishes its data as
// JSON, with all inheritance between locales worked out.
package main

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ironmonger/internal/locale"
)

func main() {
	dates := flag.String("dates", "", "the folder of cldr-dates-full")
	core := flag.String("core", "", "the folder of cldr-core")
	out := flag.String("out", "internal/locale/names.gz", "the file that is written")
	flag.Parse()
	if err := run(*dates, *core, *out); err != nil {
		log.Fatal(err)
	}
}

func run(dates, core, out string) error {
	var text bytes.Buffer
	if err := writeWeeks(&text, core); err != nil {
		return err
	}
	if err := writeNames(&text, dates, core); err != nil {
		return err
	}
	var packed bytes.Buffer
	z, err := gzip.NewWriterLevel(&packed, gzip.BestCompression)
	if err != nil {
		return err
	}
	if _, err := z.Write(text.Bytes()); err != nil {
		return err
	}
	if err := z.Close(); err != nil {
		return err
	}
	fmt.Printf("%d bytes, compressed %d\n", text.Len(), packed.Len())
	return os.WriteFile(out, packed.Bytes(), 0o644)
}

func read(path string, into any) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(text, into); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	return nil
}

// writeWeeks writes the version, and a line for each territory that says anything of its weeks.
func writeWeeks(text *bytes.Buffer, core string) error {
	var data struct {
		Supplemental struct {
			Version struct {
				CLDR string `json:"_cldrVersion"`
			}
			WeekData struct {
				MinDays, FirstDay, WeekendStart, WeekendEnd map[string]string
			}
		}
	}
	if err := read(filepath.Join(core, "supplemental", "weekData.json"), &data); err != nil {
		return err
	}
	week := data.Supplemental.WeekData
	fmt.Fprintf(text, "%s\n", data.Supplemental.Version.CLDR)
	territories := map[string]bool{}
	lists := []map[string]string{week.FirstDay, week.MinDays, week.WeekendStart, week.WeekendEnd}
	for _, list := range lists {
		for territory := range list {
			territories[territory] = true
		}
	}
	for _, territory := range slices.Sorted(maps.Keys(territories)) {
		if strings.Contains(territory, "-") { // an alternative that the data mentions
			continue
		}
		fmt.Fprint(text, territory)
		for _, list := range lists {
			value, ok := list[territory]
			if !ok {
				value = list["001"]
			}
			fmt.Fprintf(text, "\t%s", value)
		}
		fmt.Fprintln(text)
	}
	return nil
}

type names struct{ Format, StandAlone widths }

type widths struct{ Wide, Abbreviated, Narrow map[string]string }

func (n *names) UnmarshalJSON(text []byte) error {
	var raw struct {
		Format     widths
		StandAlone widths `json:"stand-alone"`
	}
	err := json.Unmarshal(text, &raw)
	n.Format, n.StandAlone = raw.Format, raw.StandAlone
	return err
}

// pattern is a pattern, which may say that months are numbered otherwise.
type pattern string

func (p *pattern) UnmarshalJSON(text []byte) error {
	var other struct {
		Value   string `json:"_value"`
		Numbers string `json:"_numbers"`
	}
	if json.Unmarshal(text, (*string)(p)) == nil {
		return nil
	}
	if err := json.Unmarshal(text, &other); err != nil {
		return err
	}
	if other.Numbers != "M=romanlow" {
		return fmt.Errorf("unknown numbers %s", other.Numbers)
	}
	*p = pattern(strings.ReplaceAll(other.Value, "M", "R"))
	return nil
}

type gregorian struct {
	Months, Days, Quarters names
	Eras                   struct{ EraAbbr map[string]string }
	DateFormats            struct{ Full, Long, Medium, Short pattern }
	DateTimeFormats        struct{ AvailableFormats map[string]any }
}

// writeNames writes a line for each locale: its tag, and what differs from the locale that it inherits from.
func writeNames(text *bytes.Buffer, dates, core string) error {
	var data struct {
		Supplemental struct {
			ParentLocales struct{ ParentLocale map[string]string }
		}
	}
	if err := read(filepath.Join(core, "supplemental", "parentLocales.json"), &data); err != nil {
		return err
	}
	parents := data.Supplemental.ParentLocales.ParentLocale
	entries, err := os.ReadDir(filepath.Join(dates, "main"))
	if err != nil {
		return err
	}
	all := map[string][]string{}
	for _, e := range entries {
		if all[e.Name()], err = fieldsOf(dates, e.Name()); err != nil {
			return err
		}
	}
	const months, weekdays = 0, 4
	for tag, fields := range all { // of some languages the CLDR has no names yet that are confirmed
		if root := all["und"]; tag != "und" && (fields[months] == root[months] || fields[weekdays] == root[weekdays]) {
			delete(all, tag)
		}
	}
	written := map[string]bool{}
	var write func(tag string)
	write = func(tag string) {
		if written[tag] {
			return
		}
		written[tag] = true
		fields, parent := slices.Clone(all[tag]), parentOf(tag, parents, all)
		if parent != "" {
			write(parent) // before what inherits from it
			for k := range fields {
				if fields[k] == all[parent][k] {
					fields[k] = ""
				}
			}
		}
		for k, like := range locale.Like { // abbreviations that are the names themselves, and the like
			if fields[k] != "" && all[tag][k] == all[tag][like] && like != k {
				fields[k] = "="
			}
		}
		fmt.Fprintf(text, "%s\t%s\t%s\n", tag, parent, strings.Join(fields, "\t"))
	}
	for _, tag := range slices.Sorted(maps.Keys(all)) {
		write(tag)
	}
	return nil
}

// parentOf returns the locale from which another inherits; "" if there is none.
func parentOf(tag string, parents map[string]string, all map[string][]string) string {
	for tag != "und" {
		if p, ok := parents[tag]; ok {
			tag = strings.Replace(p, "root", "und", 1)
		} else if at := strings.LastIndexByte(tag, '-'); at > 0 {
			tag = tag[:at]
		} else {
			tag = "und"
		}
		if all[tag] != nil {
			return tag
		}
	}
	return ""
}

func fieldsOf(dates, tag string) ([]string, error) {
	var data struct {
		Main map[string]struct {
			Dates struct {
				Calendars struct{ Gregorian gregorian }
			}
		}
	}
	if err := read(filepath.Join(dates, "main", tag, "ca-gregorian.json"), &data); err != nil {
		return nil, err
	}
	g := data.Main[tag].Dates.Calendars.Gregorian
	months := []string{"1", "2", "3", "4", "5", "6", "7", "8", "9", "10", "11", "12"}
	days := []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}
	var fields []string
	var err error
	add := func(values map[string]string, keys []string) {
		var list []string
		for _, k := range keys {
			if values[k] == "" || strings.ContainsAny(values[k], "|\t\n=") {
				err = fmt.Errorf("%s: %q cannot be a name", tag, values[k])
			}
			list = append(list, values[k])
		}
		fields = append(fields, strings.Join(list, "|"))
	}
	for _, of := range []struct {
		names names
		keys  []string
	}{{g.Months, months}, {g.Days, days}, {g.Quarters, months[:4]}} {
		add(of.names.StandAlone.Wide, of.keys)
		add(of.names.Format.Wide, of.keys)
		add(of.names.StandAlone.Abbreviated, of.keys)
		add(of.names.Format.Abbreviated, of.keys)
	}
	add(g.Eras.EraAbbr, []string{"1"})
	add(g.Days.StandAlone.Narrow, days)
	for _, p := range []any{
		string(g.DateFormats.Full), string(g.DateFormats.Long), string(g.DateFormats.Medium), string(g.DateFormats.Short),
		g.DateTimeFormats.AvailableFormats["yMMMM"], g.DateTimeFormats.AvailableFormats["yQQQ"],
	} {
		s, ok := p.(string)
		if !ok || s == "" || strings.ContainsAny(s, "\t\n") {
			return nil, fmt.Errorf("%s: %v cannot be a pattern", tag, p)
		}
		fields = append(fields, s)
	}
	return fields, err
}
