package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/civil"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/phrase"
	"ironbell/internal/event"
	"ironbell/internal/report"
	"ironbell/internal/store/db"

	"github.com/danielgtaylor/huma/v2"
	"github.com/dustin/go-humanize"
)

// tooLarge makes a sentence of how the library that reads requests refuses what is too large.
func tooLarge(message string) string {
	var limit uint64
	if _, err := fmt.Sscanf(message, "request body is too large limit=%d bytes", &limit); err != nil {
		return message
	}
	return fmt.Sprintf("What was sent is larger than the %s that are taken here; nothing was changed.", humanize.IBytes(limit))
}

// problem turns an error into a problem (RFC 9457) with the status that fits.
func (s *server) problem(err error) error {
	var (
		invalid *fault.Invalid
		missing *db.NotFound
		taken   *db.Taken
		denied  *access.Denied
		stale   *db.Stale
		unknown *report.UnknownParameter
		media   *event.MediaError
		large   *event.TooLarge
		f       *fault.Fault
		already huma.StatusError
	)
	switch {
	case errors.As(err, &already):
		return already
	case errors.As(err, &invalid):
		details := make([]error, len(invalid.Wrong))
		for i, w := range invalid.Wrong {
			details[i] = &huma.ErrorDetail{Location: w.Where, Message: w.Sentence}
		}
		what := "This"
		if invalid.What != "" {
			what = invalid.What
		}
		if len(details) == 1 {
			return huma.NewError(http.StatusUnprocessableEntity, invalid.Error(), details...)
		}
		return huma.NewError(http.StatusUnprocessableEntity, what+" was not accepted; nothing was changed.", details...)
	case errors.As(err, &missing):
		return huma.NewError(http.StatusNotFound, missing.Error())
	case errors.As(err, &stale):
		return huma.NewError(http.StatusPreconditionFailed, phrase.Upper(stale.Error())+".")
	case errors.As(err, &taken):
		return huma.NewError(http.StatusConflict, taken.Error())
	case errors.As(err, &denied):
		return huma.NewError(http.StatusForbidden, denied.Error())
	case errors.Is(err, access.ErrSignIn):
		return huma.NewError(http.StatusUnauthorized,
			"This sign-in name and password do not belong together. Check both and try again.")
	case errors.As(err, &media):
		return huma.NewError(http.StatusUnsupportedMediaType, sentence(media))
	case errors.As(err, &large):
		return huma.NewError(http.StatusRequestEntityTooLarge, large.Error())
	case errors.As(err, &unknown):
		return huma.NewError(http.StatusUnprocessableEntity, unknown.Error())
	case errors.As(err, &f):
		text := f.Error()
		if f.Advice != "" {
			text += ". " + f.Advice
		}
		return huma.NewError(http.StatusUnprocessableEntity, text)
	case db.Unwritable(err):
		return huma.NewError(http.StatusUnprocessableEntity,
			"A text holds a character that cannot be kept: NUL, or bytes that are no UTF-8. Nothing was changed.")
	case errors.Is(err, context.Canceled):
		// Whoever asked has left, or the service stops: nobody reads the answer.
		return huma.NewError(http.StatusServiceUnavailable, "The request was broken off. Nothing was changed.")
	case fault.ByNetwork(err):
		s.Log.Error("a request met a database that does not answer", "error", err)
		return huma.NewError(http.StatusServiceUnavailable, "The database does not answer; try again in a moment.")
	}
	s.Log.Error("a request failed", "error", err)
	return huma.NewError(http.StatusInternalServerError,
		"The service has a fault of its own; its log says more. Nothing was changed.")
}

// A refusal names the place in a request, and what stood there only of its address: in the
// body it may be a password, or all of it with one in it.
func init() { //nolint:gochecknoinits // the framework takes it from a variable of its own
	plain := huma.NewError
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		for i, err := range errs {
			var d *huma.ErrorDetail
			if errors.As(err, &d) && !strings.HasPrefix(d.Location, "query.") &&
				!strings.HasPrefix(d.Location, "path.") {
				errs[i] = &huma.ErrorDetail{Location: d.Location, Message: d.Message}
			}
		}
		return plain(status, message, errs...)
	}
}

// known refuses times of years that are not reckoned with; a zero time is none.
func known(times ...time.Time) error {
	for _, t := range times {
		if !t.IsZero() && !civil.Known(t.Year()) {
			return huma.NewError(http.StatusUnprocessableEntity,
				fmt.Sprintf("Name a time from the years %d to %d.", civil.FirstYear, civil.LastYear))
		}
	}
	return nil
}

func isNotFound(err error) bool {
	var missing *db.NotFound
	return errors.As(err, &missing)
}

func writeProblem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	// a reader that left needs no answer
	_ = json.NewEncoder(w).Encode(huma.ErrorModel{Title: http.StatusText(status), Status: status, Detail: detail})
}

func writeJSON(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body) // a reader that left needs no answer
}
