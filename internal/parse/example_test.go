package parse_test

import (
	"fmt"

	"ironmonger/internal/column"
	"ironmonger/internal/parse"
)

// A value that does not fit its type is an error; nothing is rounded.
func ExampleReader_Set() {
	toll := column.Column{Type: column.Type{Kind: column.Decimal, Precision: 9, Scale: 2}}
	toll.Resize(1)
	r := parse.NewReader(nil)
	for _, text := range []string{"12.5", "-0.05", "1.005", "12 Euro", "12345678.00"} {
		if err := r.Set(&toll, 0, text); err != nil {
			fmt.Println(text, err)
			continue
		}
		fmt.Println(text, "is", toll.Value(0))
	}
	// Output:
	// 12.5 is 12.50
	// -0.05 is -0.05
	// 1.005 has too many digits after the point
	// 12 Euro is not a decimal number
	// 12345678.00 has too many digits before the point
}
