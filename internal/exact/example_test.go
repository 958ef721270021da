package exact_test

import (
	"fmt"

	"ironmonger/internal/exact"
)

// A toll of 12.34 for 2.5 tonnes: the scales add up, and the result is rounded half away from zero.
func ExampleInt128_Rescale() {
	toll, tonnes := exact.Wide(1234), exact.Wide(25) // 12.34 and 2.5
	product, _ := toll.Mul(tonnes)                   // 30.850, with a scale of 3
	cents, ok := product.Rescale(3, 2)
	fmt.Println(string(exact.AppendDecimal(nil, product, 3)), string(exact.AppendDecimal(nil, cents, 2)), ok)
	_, ok = exact.Pow10(38).Mul(exact.Wide(10))
	fmt.Println("39 digits fit:", ok)
	// Output:
	// 30.850 30.85 true
	// 39 digits fit: false
}
