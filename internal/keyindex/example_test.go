package keyindex_test

import (
	"fmt"

	"ironmonger/internal/column"
	"ironmonger/internal/keyindex"
)

// Members are numbered in the order in which their natural keys were added.
func ExampleIndex() {
	text, integer := column.Type{Kind: column.Text}, column.Type{Kind: column.Integer}
	registry, number := &column.Column{Type: text}, &column.Column{Type: integer}
	for _, key := range []struct {
		registry string
		number   int64
	}{{"N", 1}, {"S", 1}, {"N", 1}, {"S", 2}} {
		registry.AppendText(key.registry)
		number.AppendInt(key.number)
	}
	x := keyindex.New([]column.Type{text, integer})
	for i := range 3 {
		fmt.Println(x.Add([]*column.Column{registry, number}, i))
	}
	found := make([]int32, 4)
	x.Find([]*column.Column{registry, number}, found)
	fmt.Println(found, found[3] == keyindex.Absent)
	// Output:
	// 0 true
	// 1 true
	// 0 false
	// [0 1 0 -1] true
}
