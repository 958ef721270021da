package civil_test

import (
	"fmt"

	"ironmonger/internal/civil"
)

func ExampleDay() {
	day := civil.Day(2024, 2, 29)
	fmt.Println(day)
	fmt.Println(civil.Date(day + 366))
	fmt.Println(civil.Week(civil.Day(2024, 12, 30))) // a Monday: the Thursday of its week is in 2025
	fmt.Println(civil.DayOf(-1))                     // a microsecond before 1970
	// Output:
	// 19782
	// 2025 3 1
	// 2025 1
	// -1
}
