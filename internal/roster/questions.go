package roster

import (
	"context"
	"encoding/binary"
	"fmt"

	"ironmonger/internal/column"
	"ironmonger/internal/history"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/spill"
	"ironmonger/internal/warehouse"
)

// Questions are the natural keys, and the times, that the rows of a step have for one key of theirs, all of them in
// order. They are put before the rows are read in earnest, and answered a part of the dimension at a time.
type Questions struct {
	of   *Parts
	rows *spill.Rows
	by   []*column.Column
}

// Ask begins the questions of a key; asOf is the type of its times, nil if it has none.
func (p *Parts) Ask(asOf *column.Type) (*Questions, error) {
	fields := p.blind.dim.NaturalKey[:len(p.blind.dim.NaturalKey):len(p.blind.dim.NaturalKey)]
	if asOf != nil {
		fields = append(fields, column.Field{Name: "as of", Type: *asOf})
	}
	rows, err := spill.New(fields, p.Count)
	return &Questions{of: p, rows: rows}, err
}

// Put puts the questions of n rows.
func (q *Questions) Put(by []*column.Column, asOf *column.Column, n int) {
	if q.by = append(q.by[:0], by...); asOf != nil {
		q.by = append(q.by, asOf)
	}
	for i := range n {
		q.rows.Put(q.of.Of(by, i), q.by, i)
	}
}

// Close returns the disk back.
func (q *Questions) Close() error { return q.rows.Close() }

// answerFields are what is known of a row's key before it stands in its place.
var answerFields = []column.Field{
	{Name: "row", Type: column.Type{Kind: column.Integer}},
	{Name: "surrogate", Type: column.Type{Kind: column.Integer}},
	{Name: "durable", Type: column.Type{Kind: column.Integer}},
	{Name: "match", Type: column.Type{Kind: column.Integer}},
}

// Answer answers the questions of several keys. The blind roster learns which keys belong to one member.
func (p *Parts) Answer(ctx context.Context, r warehouse.Reader, questions []*Questions) ([]*Answers, error) {
	found := make([]*spill.Rows, len(questions))
	for k, q := range questions {
		var err error
		if found[k], err = spill.New(answerFields, int(q.rows.N/bucket)+1); err != nil {
			return nil, err
		}
		defer found[k].Close()
	}
	out := column.NewBatch(answerFields)
	cols := column.Pointers(out.Cols)
	var match []Match
	for part := range p.Count {
		p.Busy(part+1, p.Count)
		x, err := p.Open(ctx, r, part)
		if err != nil {
			return nil, err
		}
		if x.dim.Versioned() {
			for _, is := range x.members {
				if len(is.Versions) > 1 {
					p.blind.members = append(p.blind.members, history.Member{Versions: is.Versions})
				}
			}
		}
		l := x.Lookup()
		natural := len(x.dim.NaturalKey)
		for k, q := range questions {
			err := pipeline.Batches(ctx, q.rows.Part(part), p.Workers, func(b *column.Batch) error {
				asked := column.Pointers(b.Cols)
				number := asked[len(asked)-1].Int
				var asOf *column.Column
				if len(asked) > natural+1 {
					asOf = asked[natural]
				}
				out.Reset(b.N)
				match = column.Resized(match, b.N)
				l.Resolve(asked[:natural], asOf, b.N, cols[1].Int, cols[2].Int, match)
				for i := range b.N {
					cols[0].Int[i], cols[3].Int[i] = number[i], int64(match[i])
					for _, c := range cols {
						c.Null[i] = false
					}
					found[k].Put(int(number[i]/bucket), cols, i)
				}
				return nil
			})
			if err != nil {
				return nil, err
			}
		}
	}
	answers := make([]*Answers, len(questions))
	for k := range questions {
		var err error
		if answers[k], err = newAnswers(ctx, found[k]); err != nil {
			for _, a := range answers[:k] {
				a.Close()
			}
			return nil, err
		}
	}
	return answers, nil
}

// bucket is how many answers are brought into the order of their rows at a time.
const bucket = 1 << 17

// Answers are the surrogate keys of the rows of a step for one key of theirs, on disk in the order of the rows.
type Answers struct{ file *spill.File }

// answerSize is the bytes of an answer: key, durable key, outcome.
const answerSize = 17

func newAnswers(ctx context.Context, found *spill.Rows) (*Answers, error) {
	file, err := spill.NewFile()
	if err != nil {
		return nil, err
	}
	a := &Answers{file}
	buf := make([]byte, 0, answerSize*min(found.N, bucket))
	for k := range found.Parts() {
		first := int64(k) * bucket
		buf = buf[:answerSize*min(found.N-first, bucket)]
		err := pipeline.Batches(ctx, found.Part(k), 1, func(b *column.Batch) error {
			for i := range b.N {
				to := buf[answerSize*(b.Cols[0].Int[i]-first):]
				binary.LittleEndian.PutUint64(to, uint64(b.Cols[1].Int[i]))
				binary.LittleEndian.PutUint64(to[8:], uint64(b.Cols[2].Int[i]))
				to[16] = byte(b.Cols[3].Int[i])
			}
			return nil
		})
		if err == nil {
			err = file.Put(buf, first*answerSize)
		}
		if err != nil {
			a.Close()
			return nil, err
		}
	}
	return a, nil
}

// Close returns the disk back.
func (a *Answers) Close() error { return a.file.Close() }

// Recall reads answers. It is for one goroutine.
type Recall struct {
	of  *Answers
	buf []byte
}

// Recall returns a new one.
func (a *Answers) Recall() *Recall { return &Recall{of: a} }

// Resolve does for n rows, of which first come before, what [Lookup.Resolve] would have done.
func (r *Recall) Resolve(first int64, n int, surrogate, durable []int64, match []Match) error {
	r.buf = column.Resized(r.buf, n*answerSize)
	if _, err := r.of.file.ReadAt(r.buf, first*answerSize); err != nil {
		return fmt.Errorf("keys that were looked up beforehand cannot be read: %w", err)
	}
	for i := range n {
		a := r.buf[i*answerSize:]
		surrogate[i], match[i] = int64(binary.LittleEndian.Uint64(a)), Match(a[16])
		if durable != nil {
			durable[i] = int64(binary.LittleEndian.Uint64(a[8:]))
		}
	}
	return nil
}
