package pipeline

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"math/rand/v2"
	"runtime"
	"slices"
	"testing"
	"time"

	"ironmonger/internal/column"
)

// numbers is a source of pieces that know their number; it ends with an error, if that is not nil.
type numbers struct {
	n   int
	err error
}

type number int

func (number) Fill(*column.Batch) error { return nil }
func (numbers) Fields() []column.Field  { return nil }
func (s numbers) Pieces(context.Context) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		for i := range s.n {
			if !yield(number(i), nil) {
				return
			}
		}
		if s.err != nil {
			yield(nil, s.err)
		}
	}
}

// TestOrder: results come in source order, however long the work takes, and the first error in that order is
// the one that counts, wherever it happens; nothing is left running.
func TestOrder(t *testing.T) {
	before := runtime.NumGoroutine()
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 1))
		n, workers := r.IntN(60), 1+r.IntN(8)
		workFails, sinkFails := -1, -1
		src := numbers{n: n}
		want := error(nil)
		wrong := func(where string) error { return errors.New(where) }
		if r.IntN(3) == 0 {
			src.err = wrong("source")
			want = src.err
		}
		workErr, sinkErr := wrong("work"), wrong("sink")
		if n > 0 && r.IntN(3) == 0 {
			workFails = r.IntN(n)
			want = workErr
		}
		if n > 0 && r.IntN(3) == 0 {
			if sinkFails = r.IntN(n); workFails < 0 || sinkFails < workFails {
				want = sinkErr
			}
		}
		made := 0
		var got []int
		err := Each(context.Background(), src, workers, func() *int { made++; return new(int) },
			func(_ int, p column.Piece, slot *int) error {
				time.Sleep(time.Duration(rand.IntN(200)) * time.Microsecond)
				*slot = int(p.(number))
				if *slot >= workFails && workFails >= 0 {
					return workErr
				}
				return nil
			},
			func(slot *int) error {
				got = append(got, *slot)
				if *slot == sinkFails {
					return sinkErr
				}
				return nil
			})
		if err != want {
			t.Fatalf("seed %d: %v, want %v", seed, err, want)
		}
		var all []int
		for i := range len(got) {
			all = append(all, i)
		}
		if !slices.Equal(got, all) || want == nil && len(got) != n {
			t.Fatalf("seed %d: %v of %d", seed, got, n)
		}
		if made > 2*workers+2 {
			t.Fatalf("%d slots for %d workers", made, workers)
		}
	}
	for deadline := time.Now().Add(2 * time.Second); runtime.NumGoroutine() > before; time.Sleep(time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("%d goroutines are left", runtime.NumGoroutine()-before)
		}
	}
}

// TestCancel: a context that ends stops the stream with its cause.
func TestCancel(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	seen := 0
	err := Each(ctx, numbers{n: 1 << 30}, 2, func() *int { return new(int) },
		func(int, column.Piece, *int) error { return nil },
		func(*int) error {
			if seen++; seen == 100 {
				cancel()
			}
			return nil
		})
	if !errors.Is(err, context.Canceled) {
		t.Error(fmt.Sprint(err), seen)
	}
}
