// Package pipeline runs the pieces of a source through workers and brings the results back into source
// order, so that what follows does not depend on the number of cores.
package pipeline

import (
	"context"

	"ironmonger/internal/column"
)

type job[T any] struct {
	piece column.Piece
	slot  *T
	done  chan error
}

// Each calls work for every piece of src, on as many goroutines as there are workers, and then, on the
// caller's goroutine and in source order, sink with the result. Results live in slots that are made by
// fresh and used again, so their number, and with it the memory, is bounded. work is told which worker
// calls it, for what belongs to one goroutine.
//
// The error is the first in source order, whatever order things happened in.
func Each[T any](ctx context.Context, src column.Source, workers int, fresh func() *T,
	work func(worker int, p column.Piece, slot *T) error, sink func(*T) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	inFlight := 2*workers + 2
	free := make(chan *T, inFlight)
	for range inFlight {
		free <- fresh()
	}
	order := make(chan *job[T], inFlight+1)
	todo := make(chan *job[T], inFlight+1)
	go func() {
		defer close(order)
		defer close(todo)
		for piece, err := range src.Pieces(ctx) {
			j := &job[T]{piece: piece, done: make(chan error, 1)}
			if err != nil {
				j.done <- err
				order <- j
				return
			}
			select {
			case j.slot = <-free:
			case <-ctx.Done():
				return
			}
			order <- j
			todo <- j
		}
	}()
	ended := make(chan struct{}, workers)
	for w := range workers {
		go func() {
			for j := range todo {
				if ctx.Err() != nil {
					j.done <- ctx.Err()
				} else {
					j.done <- work(w, j.piece, j.slot)
				}
			}
			ended <- struct{}{}
		}()
	}
	var err error
	for j := range order {
		failed := <-j.done
		if err != nil {
			continue // let the others run out
		}
		if err = failed; err == nil {
			err = sink(j.slot)
		}
		if err != nil {
			cancel()
		} else {
			free <- j.slot
		}
	}
	for range workers {
		<-ended
	}
	if err == nil {
		err = context.Cause(ctx)
	}
	return err
}

// Batches calls f with the rows of src, batch by batch in source order, while workers decode the next ones. A batch
// is f's until it returns.
func Batches(ctx context.Context, src column.Source, workers int, f func(*column.Batch) error) error {
	fields := src.Fields()
	return Each(ctx, src, workers, func() *column.Batch { return column.NewBatch(fields) },
		func(_ int, p column.Piece, b *column.Batch) error { return p.Fill(b) }, f)
}
