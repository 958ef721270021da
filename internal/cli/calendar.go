package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/text/language"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/export"
	"ironmonger/internal/locale"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/render"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
	"ironmonger/internal/transform"
)

// calendarForms are the formats of the command calendar.
var calendarForms = []string{"text", "csv", "json", "json_lines", "parquet", "icalendar"}

func (s *session) calendar() *cli.Command {
	return command(&cli.Command{
		Name:      "calendar",
		Usage:     "draw a calendar, or write one as a file; a model is not required",
		ArgsUsage: "[NAME]",
		Description: "Without --format, it draws a year or a month with its holidays. With --format csv, json, json_lines or parquet it writes a\n" +
			"row for each day, with the attributes of docs/calendar.md; with --format icalendar it writes the holidays. The calendar is\n" +
			"declared by the options, and by --declare in the words of the model. With NAME, it is the calendar of that source or\n" +
			"dimension of the model. Rows of holidays that cannot be taken are told on standard error.\n\n" +
			"Exit status: 0 done; 1 a file cannot be read or written; 2 the call or the model is wrong.\n\n" +
			"Example:\n  ironmonger calendar --years 2025 --language de --holidays holidays.csv\n" +
			"  ironmonger calendar --years 2020..2040 --weeks 4-5-4 --format parquet --out calendar.parquet\n" +
			"  ironmonger calendar --month 2025-12 --declare 'working_days: {holidays: [{name: New Year, on: 1 january}]}'\n" +
			"  ironmonger calendar date --years 2025",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "years", Usage: "the `YEARS`: 2025, or 2020..2040"},
			&cli.StringFlag{Name: "month", Usage: "draw one `MONTH`: 2025-04"},
			&cli.StringFlag{Name: "attributes", Usage: "the sets and attributes of the rows, separated by `commas`"},
			&cli.StringFlag{Name: "weeks", Usage: "retail years with this `PATTERN` of weeks (4-5-4, 4-4-5 or 5-4-4), which end on the Saturday nearest to the end of January"},
			&cli.StringFlag{Name: "fiscal-year", Usage: "the first `MONTH` of the fiscal year, and which year names it: april/start"},
			&cli.StringFlag{Name: "language", Usage: "the languages of names, by BCP 47 `TAGS` separated by commas"},
			&cli.StringFlag{Name: "weekend", Usage: "the `WEEKDAYS` of the weekend separated by commas, or the code of a territory"},
			&cli.StringSliceFlag{Name: "holidays", Usage: "a `FILE` of holidays: iCalendar, or CSV with the columns date and name; may be repeated"},
			&cli.StringSliceFlag{Name: "declare", Usage: "more of the calendar, as `KEY: VALUE` of the section of the model; may be repeated"},
			&cli.StringFlag{Name: "format", Value: "text", Usage: "the format of the result: `text`, csv, json, json_lines, parquet or icalendar", Validator: func(v string) error {
				if !slices.Contains(calendarForms, v) {
					return fmt.Errorf("%s is none of %s", v, strings.Join(calendarForms, ", "))
				}
				return nil
			}},
			&cli.StringFlag{Name: "out", Usage: "the `FILE` that is written, instead of standard output"},
			&cli.StringFlag{Name: "model", Aliases: []string{"m"}, Value: "ironmonger.yaml", Usage: "with NAME, the model `FILE`"},
			&cli.StringSliceFlag{Name: "set", Usage: "the value of a parameter of the model, as `NAME=VALUE`; may be repeated"},
			&cli.StringFlag{Name: "parameters", Usage: "a `FILE` with values of parameters, one NAME: VALUE in each line"},
		},
		Action: s.drawCalendar,
	}, 1)
}

// picture is what a call to calendar asks for.
type picture struct {
	from, to int64
	month    bool
	model    *star.Model
	root     *os.Root
	days     *star.Source
	given    bool // the years are
	ofModel  bool
}

func (s *session) drawCalendar(ctx context.Context, c *cli.Command) error {
	p := &picture{}
	if err := p.reach(c); err != nil {
		return err
	}
	err := p.declared(ctx, c)
	if p.root != nil {
		defer p.root.Close()
	}
	if err != nil {
		return err
	}
	in := &source.Inputs{Model: p.model, Root: p.root}
	form := c.String("format")
	if form == "text" || form == "icalendar" {
		pages, flow, err := p.pages(ctx, in)
		if err != nil {
			return p.plain(err)
		}
		s.tellOf(flow, c.StringSlice("holidays"))
		return s.toFile(c, func(w io.Writer) error {
			if form == "icalendar" {
				return export.Events(w, events(pages, p.from, p.to))
			}
			pages.Width = s.width()
			p.draw(w, pages)
			return nil
		})
	}
	if p.month {
		return wrong{errors.New("calendar: --month draws a month: --years says of which years there are rows")}
	}
	if !p.given && !p.ofModel {
		return wrong{errors.New("calendar: of which years? For example: --years 2020..2040")}
	}
	flow, err := transform.Open(ctx, in, p.days, func(string) bool { return true })
	if err != nil {
		return p.plain(err)
	}
	s.tellOf(flow, c.StringSlice("holidays"))
	return s.toFile(c, func(w io.Writer) error { return export.Write(ctx, w, export.Format(form), flow) })
}

// mostTold is how many rows of lists of holidays are told that could not be taken.
const mostTold = 20

// tellOf tells which rows of the lists of holidays were not taken, and where a list ends before the calendar. files are
// those of the call, which the model calls holidays_1 and so on.
func (s *session) tellOf(flow *transform.Flow, files []string) {
	rows := flow.Fallen()
	for n, x := range rows {
		if n == mostTold {
			fmt.Fprintf(s.err, "and %s more\n", render.Number(int64(len(rows)-n)))
			break
		}
		for _, f := range x.Faults {
			if f.Detail != "" {
				f.Reason += ": " + f.Detail
			}
			fmt.Fprintf(s.err, "%s: set aside: %s\n", diag.Place{File: x.File, Line: int(x.Line)}, f.Reason)
		}
	}
	for _, note := range flow.Notes() {
		for n := len(files); n > 0; n-- {
			note = strings.ReplaceAll(note, fmt.Sprintf("holidays_%d", n), files[n-1])
		}
		fmt.Fprintln(s.err, note)
	}
}

// toFile calls write for the file that the call names, or for standard output. A file that cannot be written whole is
// not left behind.
func (s *session) toFile(c *cli.Command, write func(w io.Writer) error) error {
	name := c.String("out")
	if name == "" {
		if c.String("format") == "text" {
			return write(s.out)
		}
		return write(s.raw)
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".ironmonger-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	err = write(f)
	if err == nil {
		err = f.Chmod(0o644)
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err == nil {
		err = os.Rename(f.Name(), name)
	}
	return err
}

// reach reads which years or which month the call means; this year if it says nothing.
func (p *picture) reach(c *cli.Command) error {
	year := time.Now().Year()
	first, last := year, year
	if years := c.String("years"); years != "" {
		from, to, both := strings.Cut(years, "..")
		if !both {
			to = from
		}
		var err, terr error
		first, err = strconv.Atoi(from)
		last, terr = strconv.Atoi(to)
		if err != nil || terr != nil || first < 1 || last > 9999 || last < first {
			return wrong{fmt.Errorf("calendar: --years %s: expected a year such as 2025, or years such as 2020..2040", years)}
		}
		p.given = true
	}
	p.from, p.to = civil.Day(first, 1, 1), civil.Day(last, 12, 31)
	if month := c.String("month"); month != "" {
		at, err := time.Parse("2006-01", month)
		if err != nil || p.given {
			return wrong{fmt.Errorf("calendar: --month %s: expected a month such as 2025-04, without --years", month)}
		}
		y, m := at.Year(), int(at.Month())
		p.from, p.to, p.month = civil.Day(y, m, 1), civil.Day(y, m, civil.DaysIn(y, m)), true
	}
	return nil
}

// declared finds the calendar that the call declares or names.
func (p *picture) declared(ctx context.Context, c *cli.Command) (err error) {
	if c.Args().Len() > 0 {
		return p.named(ctx, c)
	}
	if p.root, err = os.OpenRoot("."); err != nil {
		return err
	}
	text, err := p.text(c)
	if err != nil {
		return err
	}
	p.model, err = star.Parse(declaredBy, []byte(text), transform.Outside(ctx, p.root, nil))
	if err = p.plain(err); err == nil {
		at := slices.IndexFunc(p.model.Sources, func(s *star.Source) bool { return s.Calendar != nil })
		p.days = p.model.Sources[at]
	}
	return err
}

// declaredBy is the name of the model that the options make.
const declaredBy = "options"

// plain tells mistakes in what the options declare without the places that they have in the model made of them.
func (p *picture) plain(err error) error {
	var list diag.List
	if !errors.As(err, &list) {
		return err
	}
	var lines []string
	for _, e := range list {
		if e.At.File != declaredBy {
			return list
		}
		about := strings.TrimPrefix(strings.TrimPrefix(e.Subject, "sources."), "days.calendar.")
		if about != "" && about != "days.calendar" {
			about += ": "
		} else {
			about = ""
		}
		lines = append(lines, "calendar: "+about+e.Message)
	}
	return wrong{errors.New(strings.Join(lines, "\n"))}
}

// named finds a calendar of the model.
func (p *picture) named(ctx context.Context, c *cli.Command) (err error) {
	for _, option := range []string{"attributes", "weeks", "fiscal-year", "language", "weekend", "holidays", "declare"} {
		if c.IsSet(option) {
			return wrong{fmt.Errorf("calendar: the model declares %s: --%s has no place here", c.Args().First(), option)}
		}
	}
	if p.model, p.root, err = readModel(ctx, c, allOfIt); err != nil {
		return err
	}
	var names []string
	for _, src := range p.model.Sources {
		if src.Calendar != nil {
			names = append(names, src.Text)
			if src.Text == c.Args().First() {
				p.days = src
			}
		}
	}
	for _, d := range p.model.Dimensions {
		if d.Calendar != nil {
			names = append(names, d.Text)
			if d.Text == c.Args().First() {
				p.days = d.Source
			}
		}
	}
	if p.days == nil {
		return wrong{fmt.Errorf("calendar: the model has no calendar called %s%s", c.Args().First(), diag.Suggest(c.Args().First(), names))}
	}
	p.ofModel = true
	if p.given && c.String("format") != "text" && c.String("format") != "icalendar" {
		return wrong{errors.New("calendar: the model says which days the calendar has: --years is for a picture")}
	}
	return nil
}

// text is the model that the options declare.
func (p *picture) text(c *cli.Command) (string, error) {
	var b, calendar strings.Builder
	b.WriteString("warehouse: {sqlite: none}\ndimensions: {date: {from: days, natural_key: date}}\nsources:\n")
	say := func(format string, args ...any) { fmt.Fprintf(&calendar, "      "+format+"\n", args...) }
	written := func(day int64) string { return string(column.AppendInt(nil, column.Date, day)) }
	say("from: %s", written(p.from))
	say("to: %s", written(p.to))
	sets := []string{"basic"}
	if w := c.String("weeks"); w != "" {
		say("retail_year: {ends_on: saturday, month: january, rule: nearest, named_by: start, pattern: %q}", w)
		sets = append(sets, "retail")
	}
	if f := c.String("fiscal-year"); f != "" {
		month, by, ok := strings.Cut(f, "/")
		if !ok {
			return "", wrong{fmt.Errorf("calendar: --fiscal-year %s: expected a month, and start or end: april/start", f)}
		}
		say("fiscal_year: {starts: %q, named_by: %q}", month, by)
		sets = append(sets, "fiscal")
	}
	if tags := c.String("language"); tags != "" {
		say("languages: [%s]", quoted(tags))
		sets = append(sets, "labels")
	}
	files := c.StringSlice("holidays")
	if c.String("weekend") != "" || len(files) > 0 {
		say("working_days:")
		sets = append(sets, "working_days")
	}
	if days := c.String("weekend"); days != "" {
		say("  weekend: [%s]", quoted(days))
	}
	for n, file := range files {
		if n == 0 {
			say("  holidays:")
		}
		say("    - {from: holidays_%d, date: date, name: name}", n+1)
		fmt.Fprintf(&b, "  holidays_%d: {within: %q, read: %q", n+1, filepath.Dir(file), filepath.Base(file))
		if !strings.Contains(strings.ToLower(filepath.Base(file)), ".ics") {
			b.WriteString(", columns: {date: date, name: text}")
		}
		b.WriteString("}\n")
	}
	for _, declared := range c.StringSlice("declare") {
		for _, line := range strings.Split(declared, "\n") {
			say("%s", line)
		}
	}
	if list := c.String("attributes"); list != "" {
		say("attributes: [%s]", quoted(list))
	} else {
		say("attributes: [%s]", strings.Join(sets, ", "))
	}
	return b.String() + "  days:\n    calendar:\n" + calendar.String(), nil
}

// quoted writes words with commas between them as YAML.
func quoted(list string) string {
	var words []string
	for _, w := range strings.Split(list, ",") {
		words = append(words, strconv.Quote(strings.TrimSpace(w)))
	}
	return strings.Join(words, ", ")
}

// pages reads the holidays that a picture marks, and returns the flow that had them, too.
func (p *picture) pages(ctx context.Context, in *source.Inputs) (*render.Pages, *transform.Flow, error) {
	base := p.days
	for base.Calendar == nil {
		base = base.From
	}
	cal := base.Calendar
	pages := &render.Pages{Holidays: map[int64][]render.Holiday{}}
	if pages.Language, _ = locale.Find("en"); len(cal.Languages) > 0 {
		pages.Language = cal.Languages[0]
	}
	weeks, week := cal.Week, "week_of_year"
	if weeks.First == 0 { // those of where the language is spoken
		region, _ := language.Make(pages.Language.Tag).Region()
		of, _ := locale.WeekOf(region.String())
		weeks.First, weeks.Least = max(of.FirstDay, 1), max(of.LeastDays, 1)
	}
	if pages.First = weeks.First; cal.Retail != nil {
		week, pages.First = "retail_week", cal.Retail.Weekday%7+1
	}
	flow, err := transform.Open(ctx, in, base.With(p.from, p.to, weeks, "working_days", week), func(string) bool { return true })
	if err != nil {
		return nil, nil, err
	}
	fields := flow.Fields()
	numbers := map[int64]int64{}
	pages.Week = func(day int64) int64 { return numbers[day] }
	err = pipeline.Batches(ctx, flow, 1, func(b *column.Batch) error {
		for i := range b.N {
			day := b.Cols[column.Find(fields, "date")].Int[i]
			numbers[day] = b.Cols[column.Find(fields, week)].Int[i]
			for k, f := range fields {
				name, ok := strings.CutSuffix(f.Name, "holiday_name")
				if !ok || b.Cols[k].Null[i] {
					continue
				}
				h := render.Holiday{Region: strings.TrimSuffix(name, "_"), Name: b.Cols[k].Text[i]}
				h.Half = b.Cols[column.Find(fields, name+"is_holiday")].Int[i] == 0
				pages.Holidays[day] = append(pages.Holidays[day], h)
			}
		}
		return nil
	})
	return pages, flow, err
}

// draw draws the month or the years.
func (p *picture) draw(w io.Writer, pages *render.Pages) {
	year, month, _ := civil.Date(p.from)
	last, _, _ := civil.Date(p.to)
	if p.month {
		pages.Month(w, year, month)
		return
	}
	for y := year; y <= last; y++ {
		if y > year {
			fmt.Fprintln(w)
		}
		pages.Year(w, y)
	}
}

// events are the holidays as events, in the order of their days.
func events(pages *render.Pages, from, to int64) []export.Event {
	var list []export.Event
	for day := from; day <= to; day++ {
		for _, h := range pages.Holidays[day] {
			list = append(list, export.Event{Day: day, Name: h.Name, Category: h.Region})
		}
	}
	return list
}
