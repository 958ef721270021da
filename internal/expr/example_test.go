package expr_test

import (
	"fmt"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
)

// An expression is compiled for columns, and evaluated for a batch. The type is known before: decimals stay exact.
func ExampleCompile() {
	money := column.Type{Kind: column.Decimal, Precision: 9, Scale: 2}
	fields := []column.Field{{Name: "tonnage", Type: money}, {Name: "rate", Type: money}}
	toll, err := expr.Compile("round(tonnage * rate * 0.335, 2)", fields)
	if err != nil {
		panic(err)
	}
	b := column.NewBatch(fields)
	b.Cols[0].AppendInt(10_05) // 10.05
	b.Cols[1].AppendInt(2_00)
	b.N = 1
	fmt.Println(toll.Type(), toll.Eval(b).Value(0))
	_, err = expr.Compile("tonnage > 'x'", fields)
	fmt.Println(err)
	// Output:
	// decimal(18,2) 6.73
	// > cannot compare decimal(9,2) with text
}
