package api

import (
	"context"
	"fmt"
	"net/http"
	"sync"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"
)

// liveNotices registers the stream of changes.
func (s *server) liveNotices(a huma.API) {
	sse.Register(a,
		huma.Operation{
			OperationID: "live", Method: http.MethodGet, Path: livePath,
			Summary: "Notices of changes, as server-sent events", Tags: []string{"service"},
		},
		map[string]any{"notice": db.Notice{}},
		func(ctx context.Context, in *struct {
			Run string `query:"run" maxLength:"30" doc:"only notices about this run"`
		}, send sse.Sender,
		) {
			notices, stop := s.Node.Watch()
			defer stop()
			ticker := time.NewTicker(pulse)
			defer ticker.Stop()
			way := wayOf(ctx)
			// The first one tells that nothing is missed from here on.
			if send.Data(db.Notice{Kind: job.NoticeEverything}) != nil {
				return
			}
			for {
				var n db.Notice
				select {
				case <-ctx.Done():
					return
				case <-ticker.C:
					n = db.Notice{Kind: job.NoticePulse}
				case n = <-notices:
					if in.Run != "" && n.Kind != job.NoticeEverything && n.Kind != job.NoticeAccess &&
						(n.Kind != job.NoticeRun || n.ID != in.Run) {
						continue
					}
				}
				// A line ends with the session or token by which it was opened.
				if n.Kind == job.NoticeAccess || n.Kind == job.NoticePulse || n.Kind == job.NoticeEverything {
					if open, err := s.Store.SignInOpen(ctx, way.ID); err == nil && !open {
						return
					}
				}
				if n.Kind == job.NoticeAccess {
					continue // nobody's business
				}
				if send.Data(n) != nil {
					return
				}
			}
		})
}

// fewLines bounds the lines of notices for each person.
func (s *server) fewLines(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != livePath {
			next.ServeHTTP(w, r)
			return
		}
		who, _ := person(r.Context())
		if !s.lines.take(who.ID) {
			writeProblem(w, http.StatusTooManyRequests,
				fmt.Sprintf("You have %d lines of notices open, which is as many as one person may have. "+
					"Close a window.", linesEach))
			return
		}
		defer s.lines.giveBack(who.ID)
		next.ServeHTTP(w, r)
	})
}

// pulse is how often a quiet stream of notices shows that it is alive.
const pulse = 20 * time.Second

// linesEach bounds the lines that one person has open at a node.
const linesEach = 20

// lines counts the lines of notices that each person has open.
type lines struct {
	mu   sync.Mutex
	open map[int64]int
}

// take counts one more, when there may be.
func (l *lines) take(person int64) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.open == nil {
		l.open = map[int64]int{}
	}
	if l.open[person] >= linesEach {
		return false
	}
	l.open[person]++
	return true
}

func (l *lines) giveBack(person int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.open[person]--; l.open[person] == 0 {
		delete(l.open, person)
	}
}

const livePath = "/api/live"
