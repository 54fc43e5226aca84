package api

import (
	"net/http"
	"strconv"
	"strings"

	"ironbell/internal/store/db"
	"ironbell/internal/store/queue"
)

// preconditions gives each record its ETag when it is read, and holds a change of one
// against If-Match and If-None-Match (RFC 9110 section 13.1): a change that began
// from another state than the record has now is answered by 412. The tag is read
// before the record, so that it is never newer than what is shown.
func (s *server) preconditions(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		kind, name := recordOf(r.URL.Path)
		if kind == "" {
			next.ServeHTTP(w, r)
			return
		}
		if r.Method == http.MethodGet {
			_, byNumber := strconv.ParseInt(name, 10, 64) // jobs and reports are found by it, too
			if n, err := s.Store.Revision(r.Context(), kind, name); err == nil && byNumber != nil {
				w.Header().Set("ETag", etag(n))
			}
			next.ServeHTTP(w, r)
			return
		}
		p := db.Precondition{Kind: kind}
		match, none := r.Header.Get("If-Match"), r.Header.Get("If-None-Match")
		switch strings.TrimSpace(match) {
		case "":
		case "*":
			p.There = true
		default:
			p.Revisions = readTags(match)
		}
		p.Absent = strings.TrimSpace(none) == "*"
		if match != "" || p.Absent {
			r = r.WithContext(db.Expecting(r.Context(), p))
		}
		next.ServeHTTP(w, r)
	})
}

// recordsAt are the addresses of records that people edit, with the kind of the
// record that each is about.
var recordsAt = []struct{ prefix, kind string }{
	{"/api/jobs/", "job"},
	{"/api/reports/", "report"},
	{"/api/calendars/", "calendar"},
	{"/api/sources/", "source"},
	{"/api/destinations/", "destination"},
	{"/api/senders/", "sender"},
	{"/api/subscriptions/", "subscription"},
	{"/api/people/", "person"},
	{"/api/groups/", "group"},
	{"/api/posts/", "post"},
	{"/api/settings/", "setting"},
}

// recordOf tells which record an address is of; name is empty when it is of none.
func recordOf(path string) (kind, name string) {
	if path == "/api/limits" {
		return "setting", queue.LimitSetting
	}
	for _, r := range recordsAt {
		below, ok := strings.CutPrefix(path, r.prefix)
		if !ok {
			continue
		}
		parts := strings.Split(below, "/")
		if r.kind == "source" && len(parts) == 3 && parts[1] == "identities" {
			return "identity", parts[0] + ": " + parts[2]
		}
		return r.kind, parts[0]
	}
	return "", ""
}

func etag(revision int64) string { return `"` + strconv.FormatInt(revision, 10) + `"` }

// readTags reads a list of entity tags. One that is none of ours matches nothing; so
// does a weak one, since a change wants a strong comparison.
func readTags(text string) []int64 {
	var out []int64
	for _, tag := range strings.Split(text, ",") {
		tag = strings.TrimSpace(tag)
		n, err := strconv.ParseInt(strings.Trim(tag, `"`), 10, 64)
		if err != nil || !strings.HasPrefix(tag, `"`) || n < 0 {
			n = -1
		}
		out = append(out, n)
	}
	return out
}
