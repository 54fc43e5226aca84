package node

import (
	"context"

	"ironbell/internal/store/db"
)

// InBatch takes up to most things together, and tells how many there were. When the
// records refuse them, it takes them one after another and sets apart the one that is
// refused: one bad thing holds up no other, now or later. take takes at most limit;
// apart sets aside what was last taken alone, and tells whether that is known.
func (n *Node) InBatch(ctx context.Context, most int, take func(limit int) (int, error),
	apart func(why error) (known bool, err error),
) (int, error) {
	done, err := take(most)
	if err == nil || ctx.Err() != nil || !db.Refused(err) {
		return done, err
	}
	n.Log.Warn("the records refuse what was taken together; it is taken one by one", "error", err)
	done = 0
	for range most {
		one, err := take(1)
		if err != nil {
			if ctx.Err() != nil || !db.Refused(err) {
				return done, err
			}
			known, failed := apart(err)
			if failed != nil {
				return done, failed
			}
			if !known {
				return done, err
			}
			one = 1
		}
		if one == 0 {
			return done, nil
		}
		done += one
	}
	return done, nil
}
