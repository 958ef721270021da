package source

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/icalendar"
	"ironmonger/internal/star"
)

// calendarFiles is the days of events in iCalendar files.
type calendarFiles struct {
	*Files
	columns []int // of all that such files have
	read    []*calendarFile
}

// calendarFile is what was read of a file.
type calendarFile struct {
	file   *file
	days   []icalendar.Day
	faults []icalendar.Fault
}

// calendarColumns are the columns of every iCalendar file.
var calendarColumns = []column.Field{
	{Name: "date", Type: column.Type{Kind: column.Date}},
	{Name: "name", Type: column.Type{Kind: column.Text}},
	{Name: "uid", Type: column.Type{Kind: column.Text}},
	{Name: "categories", Type: column.Type{Kind: column.Text}},
	{Name: "remark", Type: column.Type{Kind: column.Text}},
}

// mostCalendar is how many bytes an iCalendar file may have once it is decompressed.
const mostCalendar = 64 << 20

// openCalendars reads iCalendar files, which are small.
func (in *Inputs) openCalendars(s *star.Source, want func(string) bool) (*calendarFiles, error) {
	x := &calendarFiles{Files: &Files{in: in, of: s}}
	var errs diag.List
	for _, c := range s.Columns {
		at := column.Find(calendarColumns, c.InFile())
		if at < 0 || calendarColumns[at].Type != c.Type {
			errs = append(errs, &diag.Error{
				At: c.At, Subject: "sources." + s.Text + ".columns", Message: fmt.Sprintf(
					"iCalendar files have the columns %s, of types of their own", strings.Join(column.Names(calendarColumns), ", "),
				),
			})
			continue
		}
		if want(c.Text) {
			x.fields, x.columns = append(x.fields, column.Field{Name: c.Text, Type: c.Type}), append(x.columns, at)
		}
	}
	if len(errs) > 0 {
		return x, errs
	}
	x.dir, x.files, errs = in.locate(s)
	for _, file := range x.files {
		read, err := x.readCalendar(file)
		var place *icalendar.Error
		switch {
		case errors.As(err, &place):
			errs = append(errs, &diag.Error{
				At: diag.Place{File: file.name, Line: place.Line, Column: place.Column}, Subject: "source " + s.Text, Message: place.Message,
			})
		case err != nil:
			errs = append(errs, failing(file, s)(0, "%s", err)...)
		default:
			x.read = append(x.read, read)
		}
	}
	return x, errs.Err()
}

// readCalendar reads a file.
func (x *calendarFiles) readCalendar(file *file) (*calendarFile, error) {
	in, err := x.open(file)
	if err != nil {
		return nil, errors.New(reason(err))
	}
	defer in.Close()
	file.info = in.info
	text, err := io.ReadAll(io.LimitReader(in, mostCalendar+1))
	switch {
	case err != nil:
		return nil, errors.New(in.plain())
	case len(text) > mostCalendar:
		return nil, fmt.Errorf("an iCalendar file of more than %d bytes", mostCalendar)
	}
	chosen := x.of.Events
	days, faults, err := icalendar.Read(text, chosen.From, chosen.To)
	if len(chosen.Categories) > 0 {
		days = slices.DeleteFunc(days, func(d icalendar.Day) bool {
			return !slices.ContainsFunc(d.Categories, func(c string) bool {
				return slices.ContainsFunc(chosen.Categories, func(w string) bool { return strings.EqualFold(c, w) })
			})
		})
	}
	return &calendarFile{file, days, faults}, err
}

// Pieces yields the days, a file at a time.
func (x *calendarFiles) Pieces(context.Context) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		for _, f := range x.read {
			if !yield(calendarPiece{x, f}, nil) {
				return
			}
		}
	}
}

// Samples yields all of them.
func (x *calendarFiles) Samples(ctx context.Context) iter.Seq2[column.Piece, error] {
	return x.Pieces(ctx)
}

// Row returns the first day of the event in a line.
func (x *calendarFiles) Row(_ context.Context, name string, line int64, b *column.Batch) (int, error) {
	for _, f := range x.read {
		if f.file.name != name {
			continue
		}
		if err := (calendarPiece{x, f}).Fill(b); err != nil {
			return -1, err
		}
		return slices.Index(b.From.Line, line), nil
	}
	return -1, nil
}

// calendarPiece is a file.
type calendarPiece struct {
	*calendarFiles
	*calendarFile
}

// Fill writes its days, and what could not be read of it.
func (p calendarPiece) Fill(b *column.Batch) error {
	days := p.days
	b.Reset(len(days) + len(p.faults))
	raw := make([]string, 0, b.N)
	b.From = column.Origin{File: p.file.name, Raw: func(i int) string { return raw[i] }}
	for i, d := range days {
		b.From.Line = append(b.From.Line, int64(d.Line))
		texts := []string{"", d.Name, d.UID, strings.Join(d.Categories, ", "), d.Remark}
		raw = append(raw, string(column.AppendInt(nil, column.Date, d.Day))+" "+d.Name)
		for k, at := range p.columns {
			c := &b.Cols[k]
			if at == 0 {
				c.Null[i], c.Int[i] = false, d.Day
				continue
			}
			c.Null[i], c.Text[i] = texts[at] == "", texts[at]
		}
	}
	for n, fault := range p.faults {
		i := len(days) + n
		b.From.Line = append(b.From.Line, int64(fault.Line))
		raw = append(raw, strings.TrimSuffix(fault.Of+":"+fault.Detail+" "+fault.Name, " "))
		for k := range p.columns {
			b.Cols[k].SetNull(i)
		}
		b.SetAside(i, fault.Of, fault.Reason, fault.Detail)
	}
	return nil
}
