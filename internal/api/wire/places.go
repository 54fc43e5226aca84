package wire

import (
	"encoding/json"
	"time"

	"ironbell/internal/core/job"
)

// Identity is a login of a source as which reports may run. Its password is
// never shown.
type Identity struct {
	Source    string    `json:"source"`
	Name      string    `json:"name"`
	Login     string    `json:"login"`
	Choosers  []string  `json:"choosers" doc:"sign-in names of those who may choose it, beside administrators"`
	Sealed    bool      `json:"sealed" doc:"a password is kept"`
	UpdatedAt time.Time `json:"updated_at"`
}

// IdentityRequest is what is said of an identity when it is saved.
type IdentityRequest struct {
	Login    string   `json:"login" minLength:"1" maxLength:"200" doc:"its login at the source"`
	Choosers []string `json:"choosers,omitempty" maxItems:"500" doc:"sign-in names of those who may choose it, beside administrators"`
	Password *string  `json:"password,omitempty" maxLength:"1000" doc:"kept sealed; the one that is there when left out"`
}

// Place is a source or a destination. Its password is never shown.
type Place struct {
	ID        int64           `json:"id"`
	Name      string          `json:"name"`
	Protocol  string          `json:"protocol" doc:"postgres, mysql, sqlite, sqlserver, folder or http for a source, smtp, http, folder, smb, ftp, sftp, webdav, s3 or ipp for a destination"`
	Note      string          `json:"note,omitempty" doc:"what should be known of it, such as that its driver is untested"`
	Settings  json.RawMessage `json:"settings"`
	Sealed    bool            `json:"sealed" doc:"a password is kept, encrypted"`
	Pin       string          `json:"pin,omitempty" doc:"the host key that it showed at its first test; another one is refused"`
	Rests     *Rest           `json:"rests,omitempty" doc:"a destination that does not work: what waits for it is kept back until it does"`
	Revision  int64           `json:"revision,omitempty" doc:"rises with each change; give it back in If-Match when you save" required:"false"`
	Tested    *Tested         `json:"tested,omitempty" doc:"how the last test of a destination went; left out when it was not tested since it was saved"`
	UpdatedAt time.Time       `json:"updated_at"`
}

// Tested is how the last test of a destination went.
type Tested struct {
	At     time.Time `json:"at"`
	OK     bool      `json:"ok"`
	Answer string    `json:"answer,omitempty" doc:"what it answered when it failed"`
}

// Rest is why a destination rests.
type Rest struct {
	Since  time.Time  `json:"since"`
	Answer string     `json:"answer" doc:"what it answered last"`
	Advice string     `json:"advice,omitempty"`
	LookAt *time.Time `json:"look_at,omitempty" doc:"when it is looked at next"`
}

// DestinationPage is a destination with what goes there.
type DestinationPage struct {
	Place
	Kind    string           `json:"kind" enum:"mail,files" doc:"what goes there"`
	Waiting int              `json:"waiting" doc:"deliveries that are kept back while it rests"`
	Uses    []DestinationUse `json:"uses" doc:"jobs that send there, with what went in the last 30 days"`
	Latest  []job.Delivery   `json:"latest"`
}

// DestinationUse is a job that sends to a destination.
type DestinationUse struct {
	Job     string     `json:"job"`
	Owner   string     `json:"owner"`
	On      bool       `json:"on"`
	Sent    int        `json:"sent"`
	Waiting int        `json:"waiting"`
	Failed  int        `json:"failed" doc:"and bounced and unknown"`
	LastAt  *time.Time `json:"last_at,omitempty"`
}

// PlaceRequest is what is said of a source or destination when it is saved.
type PlaceRequest struct {
	Protocol string         `json:"protocol" enum:"postgres,mysql,sqlite,sqlserver,folder,http,smtp,smb,ftp,sftp,webdav,s3,ipp"`
	Settings map[string]any `json:"settings"`
	Password *string        `json:"password,omitempty" maxLength:"10000" doc:"kept as it is when left out"`
}

// Answer is what the other side of a test said.
type Answer struct {
	OK     bool     `json:"ok"`
	Said   string   `json:"said"`
	Advice string   `json:"advice,omitempty" doc:"what can be done when it refused"`
	Steps  []string `json:"steps,omitempty" doc:"what was done and answered, step by step"`
}
