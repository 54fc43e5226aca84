package wire

import (
	"time"

	"ironbell/internal/core/job"
)

// Credentials are what somebody signs in with.
type Credentials struct {
	Login    string `json:"login" minLength:"1" maxLength:"200"`
	Password string `json:"password" minLength:"1" maxLength:"1000"`
}

// PasswordRequest gives whoever asks another password.
type PasswordRequest struct {
	Present string `json:"present" minLength:"1" maxLength:"1000"`
	Next    string `json:"next" minLength:"1" maxLength:"1000"`
}

// TokenRequest asks for an API token.
type TokenRequest struct {
	Credentials
	Name string `json:"name" minLength:"1" maxLength:"100" doc:"what the token is for"`
}

// Me is who is signed in.
type Me struct {
	job.Person
	Version string   `json:"version" doc:"of the service"`
	May     []string `json:"may" enum:"read,ring,write,administer" doc:"what this person may do to anything"`
	MayOwn  []string `json:"may_own" enum:"read,ring,write,administer" doc:"and to what is their own, or nobody's yet"`
}

// Token is a new API token. Its text is shown once.
type Token struct {
	Token  string     `json:"token" doc:"send it as Authorization: Bearer"`
	Person job.Person `json:"person"`
	EndsAt time.Time  `json:"ends_at"`
}

// SignIn is a session or token that somebody has open.
type SignIn struct {
	job.SignIn
	This bool `json:"this" doc:"it is the one that asks"`
}
