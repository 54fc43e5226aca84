package job

import (
	"fmt"
	"strings"
)

// Recipient is one who shall receive, as it stands in a job.
type Recipient struct {
	Kind RecipientKind
	Name string // an address, or the name of what the kind says
}

// RecipientKind is a kind of recipient.
type RecipientKind string

// The kinds.
const (
	ToAddress RecipientKind = "address"
	ToPerson  RecipientKind = "person"
	ToGroup   RecipientKind = "group"
	ToPost    RecipientKind = "post"
	ToUnder   RecipientKind = "under" // a post with all that stand under it
)

func (r Recipient) String() string {
	if r.Kind == ToAddress {
		return r.Name
	}
	return string(r.Kind) + ":" + r.Name
}

// ReadRecipient reads one recipient: an address, or person:login, group:name,
// post:name or under:name.
func ReadRecipient(text string) (Recipient, error) {
	text = strings.TrimSpace(text)
	kind, name, named := strings.Cut(text, ":")
	switch k := RecipientKind(strings.ToLower(kind)); k {
	case ToPerson, ToGroup, ToPost, ToUnder:
		if named {
			if name = strings.TrimSpace(name); name == "" {
				return Recipient{}, fmt.Errorf("%q names nobody", text)
			}
			return Recipient{k, name}, nil
		}
	}
	if text == "" {
		return Recipient{}, fmt.Errorf("there is an empty address")
	}
	return Recipient{ToAddress, text}, nil
}

// SplitRecipients takes a list apart that is separated by commas, semicolons or
// lines. Those within quotes and angle brackets separate nothing.
func SplitRecipients(text string) []string {
	var out []string
	var piece strings.Builder
	quoted, escaped, angle := false, false, false
	end := func() {
		if p := strings.TrimSpace(piece.String()); p != "" {
			out = append(out, p)
		}
		piece.Reset()
		quoted, angle = false, false
	}
	for _, r := range text {
		switch {
		case escaped:
			escaped = false
		case r == '\n' || r == '\r':
			end() // a line ends whatever was open
			continue
		case quoted && r == '\\':
			escaped = true
		case r == '"':
			quoted = !quoted
		case quoted:
		case r == '<':
			angle = true
		case r == '>':
			angle = false
		case !angle && (r == ',' || r == ';'):
			end()
			continue
		}
		piece.WriteRune(r)
	}
	end()
	return out
}

// Group is a list of recipients with a name.
type Group struct {
	ID       int64    `json:"id" db:"id"`
	Name     string   `json:"name" db:"name"`
	Revision int64    `json:"revision,omitempty" db:"revision" doc:"rises with each change; give it back in If-Match when you save" required:"false"`
	Members  []string `json:"members" maxItems:"10000" doc:"addresses, person:login, group:name, post:name, under:name"`
}

// Post is a position in the organisation.
type Post struct {
	ID       int64    `json:"id" db:"id"`
	Name     string   `json:"name" db:"name"`
	Under    string   `json:"under,omitempty" db:"under" doc:"the post that it stands under"`
	Revision int64    `json:"revision,omitempty" db:"revision" doc:"rises with each change; give it back in If-Match when you save" required:"false"`
	Holders  []string `json:"holders" maxItems:"100" doc:"sign-in names of the people who hold it"`
}
