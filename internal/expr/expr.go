// Package expr reads and evaluates the scalar expressions of a model: SQL's expressions with SQL's
// meaning, that is three-valued logic and exact numbers.
//
// [Compile] parses a text and checks its types against the columns at hand, so that nothing can go
// wrong later but in a value: an overflow, a division by zero, a cast that does not fit. Such a
// [Fault] belongs to its row and travels through an expression like a null does, so the result never
// depends on the order of evaluation; coalesce, and, or pass over it where the rest decides.
//
// A [Program] evaluates a whole batch at a time. It owns its buffers: compile one for each goroutine.
package expr

import (
	"fmt"

	"ironmonger/internal/column"
)

// Error is a mistake in an expression. At counts characters from the expression's start, from 0.
type Error struct {
	At      int
	Message string
}

// Error returns the message alone: the caller knows the place.
func (e *Error) Error() string { return e.Message }

// MaxDepth is how deep an expression may be nested.
const MaxDepth = 200

// Fault is what is wrong with a value in one row; none is the zero value.
type Fault uint8

const (
	none Fault = iota
	overflow
	zeroDivision
	misfit
	tooLong
	unfit
)

var faultTexts = [...]string{
	"",
	"result is too large",
	"division by zero",
	"value does not fit the cast",
	"text is too long",
	"the values do not fit the function",
}

// String says what is wrong.
func (f Fault) String() string { return faultTexts[f] }

// Result is the values of an expression for the rows of a batch.
type Result struct {
	column.Column
	fault []Fault // nil if no row has one
}

// Fault returns what is wrong with row i, or "".
func (r *Result) Fault(i int) string {
	if r.fault == nil {
		return ""
	}
	return r.fault[i].String()
}

// Faulty reports whether any row may have a fault.
func (r *Result) Faulty() bool { return r.fault != nil }

// True reports whether the condition holds in row i: not false, not null, no fault.
func (r *Result) True(i int) bool { return r.Int[i] != 0 && !r.Null[i] }

// reset makes the result n rows long, keeping no faults.
func (r *Result) reset(n int) {
	r.Resize(n)
	r.fault = nil
}

// take returns row i the value of another result of the same type.
func (r *Result) take(i int, from *Result) {
	r.Set(i, &from.Column, i)
	if from.fault != nil && from.fault[i] != none {
		r.fail(i, from.fault[i])
	}
}

// fail returns row i a fault. The row counts as null besides.
func (r *Result) fail(i int, f Fault) {
	if r.fault == nil {
		r.fault = make([]Fault, len(r.Null))
	}
	r.fault[i] = f
	r.SetNull(i)
}

// Program is a compiled expression.
type Program struct {
	root node
	used []int
}

// Parameter is a constant that an expression calls :name. A value that is not a value of its type is null.
type Parameter struct {
	Name  string
	Type  column.Type
	Value string
}

// Compile reads an expression over columns of the given fields, which may use parameters. The error is an
// [*Error].
func Compile(text string, fields []column.Field, parameters ...Parameter) (*Program, error) {
	p := &parser{lex: lexer{text: []rune(text)}, fields: fields, parameters: parameters}
	p.next()
	root, err := p.parse()
	if err != nil {
		return nil, err
	}
	return &Program{root, p.used}, nil
}

// Type is the type of the values. It is Null for a bare null.
func (p *Program) Type() column.Type { return p.root.typ() }

// Columns lists the positions of the columns that the expression reads, in order of appearance.
func (p *Program) Columns() []int { return p.used }

// Eval returns the values for all rows of b. The result is valid until the next call.
func (p *Program) Eval(b *column.Batch) *Result { return p.root.eval(b) }

func errorAt(at int, format string, args ...any) error {
	return &Error{at, fmt.Sprintf(format, args...)}
}
