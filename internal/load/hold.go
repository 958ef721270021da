package load

import (
	"context"
	"sync"

	"ironmonger/internal/warehouse"
)

// hold is the right to load the warehouse. It may be lost, and be taken once more.
type hold struct {
	mu sync.Mutex
	warehouse.Hold
}

func (h *hold) check(ctx context.Context) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.Hold == nil {
		return errLost
	}
	return h.Check(ctx)
}

func (h *hold) release() {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.Hold != nil {
		h.Release()
	}
}
