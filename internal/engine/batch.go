package engine

import (
	"context"

	"ironbell/internal/store"
)

// inBatch takes up to most things together, and tells how many there were. When the
// records refuse them, it takes them one after another and sets apart the one that is
// refused: one bad thing holds up no other, now or later. take takes at most limit;
// apart sets aside what was last taken alone, and tells whether that is known.
func (e *Engine) inBatch(ctx context.Context, most int, take func(limit int) (int, error), apart func(why error) (known bool, err error)) (int, error) {
	n, err := take(most)
	if err == nil || ctx.Err() != nil || !store.Refused(err) {
		return n, err
	}
	e.o.Log.Warn("the records refuse what was taken together; it is taken one by one", "error", err)
	n = 0
	for range most {
		one, err := take(1)
		if err != nil {
			if ctx.Err() != nil || !store.Refused(err) {
				return n, err
			}
			known, failed := apart(err)
			if failed != nil {
				return n, failed
			}
			if !known {
				return n, err
			}
			one = 1
		}
		if one == 0 {
			return n, nil
		}
		n += one
	}
	return n, nil
}
