package plan_test

import (
	"context"
	"errors"
	"fmt"

	"ironmonger/internal/plan"
)

// The fact needs both dimensions. One of them fails, so the fact does not run; the other dimension does.
func ExampleRun() {
	steps := []plan.Step{{Name: "vessel"}, {Name: "lock"}, {Name: "passage", Needs: []int{0, 1}}}
	plan.Run(context.Background(), steps, 1, func(_ context.Context, step int) error {
		if steps[step].Name == "lock" {
			return errors.New("locks.csv is gone")
		}
		return nil
	}, func(step int, err error) { fmt.Println(steps[step].Name, err) })
	// Output:
	// vessel <nil>
	// lock locks.csv is gone
	// passage not run
}
