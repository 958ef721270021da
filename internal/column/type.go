// Package column holds the values of the program: types, columns, batches, and what yields them.
//
// Rows travel in a [Batch] of typed columns. All kinds but text, doubles and long decimals share one
// representation, a slice of int64 (a decimal is scaled by its type, a date counts days and a
// timestamp microseconds since 1970-01-01, a time microseconds since midnight), so that most code
// needs no case for each kind. Money is never a float.
package column

import (
	"fmt"
	"strconv"
	"strings"

	"ironmonger/internal/exact"
)

// Kind is the kind of a type.
type Kind uint8

// The kinds. Null is the type of a bare null in an expression and of nothing else.
const (
	Null Kind = iota
	Integer
	Decimal
	Double
	Text
	Boolean
	Date
	Timestamp
	Time
)

// Type is the type of a column. Precision and Scale count digits and belong to decimals.
type Type struct {
	Kind             Kind
	Precision, Scale uint8
}

var kindNames = [...]string{"null", "integer", "decimal", "double", "text", "boolean", "date", "timestamp", "time"}

// String returns the type as a model writes it.
func (t Type) String() string {
	if t.Kind == Decimal {
		return fmt.Sprintf("decimal(%d,%d)", t.Precision, t.Scale)
	}
	return kindNames[t.Kind]
}

// Wide reports whether values of the type stand in Column.Wide.
func (t Type) Wide() bool { return t.Kind == Decimal && t.Precision > exact.NarrowDigits }

// Numeric reports whether one can calculate with the type.
func (t Type) Numeric() bool { return t.Kind == Integer || t.Kind == Decimal || t.Kind == Double }

// Ordinal reports whether values of the type are whole numbers in Column.Int in the order of what they mean.
func (t Type) Ordinal() bool {
	return t.Kind == Integer || t.Kind == Date || t.Kind == Timestamp || t.Kind == Decimal && !t.Wide()
}

// Temporal reports whether values of the type are dates or timestamps.
func (t Type) Temporal() bool { return t.Kind == Date || t.Kind == Timestamp }

// Exact reports whether the type is a number without rounding of its own.
func (t Type) Exact() bool { return t.Kind == Integer || t.Kind == Decimal }

// TypeNames lists the types as they are written, for messages.
func TypeNames() []string {
	return []string{"integer", "decimal(p,s)", "double", "text", "boolean", "date", "timestamp", "time"}
}

// ParseType reads a type as a model or a cast writes it.
func ParseType(s string) (Type, error) {
	word, rest, bracket := strings.Cut(strings.ToLower(strings.TrimSpace(s)), "(")
	word = strings.TrimSpace(word)
	if word == "decimal" || word == "numeric" {
		inner, closed := strings.CutSuffix(strings.TrimSpace(rest), ")")
		if !bracket || !closed {
			return Type{}, fmt.Errorf("a decimal says its digits, all and after the point: decimal(9,2)")
		}
		p, sc, two := strings.Cut(inner, ",")
		if !two {
			sc = "0"
		}
		digits, err1 := strconv.Atoi(strings.TrimSpace(p))
		scale, err2 := strconv.Atoi(strings.TrimSpace(sc))
		if err1 != nil || err2 != nil || digits < 1 || digits > exact.MaxDigits || scale < 0 || scale > digits {
			return Type{}, fmt.Errorf(
				"%s is not a decimal type: 1 to %d digits, of which 0 to all after the point",
				s,
				exact.MaxDigits,
			)
		}
		return Type{Decimal, uint8(digits), uint8(scale)}, nil
	}
	for k := Integer; int(k) < len(kindNames); k++ {
		if kindNames[k] == word && !bracket {
			return Type{Kind: k}, nil
		}
	}
	return Type{}, fmt.Errorf("no such type: %s (there is: %s)", s, strings.Join(TypeNames(), ", "))
}

// Field is a named column of a source or table.
type Field struct {
	Name string
	Type Type
}

// Find returns the position of the field called name, or -1.
func Find(fields []Field, name string) int {
	for i := range fields {
		if fields[i].Name == name {
			return i
		}
	}
	return -1
}

// Names returns the names of the fields.
func Names(fields []Field) []string {
	names := make([]string, len(fields))
	for i, f := range fields {
		names[i] = f.Name
	}
	return names
}
