package hierarchy_test

import (
	"fmt"

	"ironmonger/internal/hierarchy"
)

func ExampleLevels() {
	none := int32(hierarchy.None)
	levels, _ := hierarchy.Levels([]int32{none, 0, 0, 1}) // 3 is below 1, which is below 0
	fmt.Println(levels)
	_, cycle := hierarchy.Levels([]int32{none, 2, 3, 1})
	fmt.Println(cycle)
	// Output:
	// [1 2 2 3]
	// [1 2 3 1]
}
