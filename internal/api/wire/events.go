package wire

import (
	"ironbell/internal/core/job"
)

// Heard is the answer to events that were reported.
type Heard struct {
	Fresh   bool        `json:"fresh" doc:"no: all were reported before, by source and id, and nothing was started again"`
	Events  int         `json:"events" doc:"how many came"`
	Known   int         `json:"known" doc:"how many of them were reported before"`
	Started []job.RunID `json:"started" doc:"runs that they started or let begin"`
	Notes   []string    `json:"notes,omitempty" doc:"to people: why they did not start what waits for them"`
}

// Event is an event that was recorded.
type Event struct {
	Number int64 `json:"number" doc:"of the record, by which it is played again"`
	job.Event
	Sender   string      `json:"sender,omitempty" doc:"name of the sender that reported it"`
	Reporter string      `json:"reporter,omitempty" doc:"sign-in name of the person who reported it, or played it again"`
	Run      *job.RunID  `json:"run,omitempty" doc:"that raised it, when it did not come from outside"`
	Played   *int64      `json:"played_from,omitempty" doc:"number of the event that was played again by it"`
	Started  []job.RunID `json:"started"`
	Note     string      `json:"note,omitempty" doc:"why it did not start what waits for it"`
}

// SenderKeyRequest asks for something that a sender is to be known by.
type SenderKeyRequest struct {
	Kind         job.SenderKeyKind `json:"kind" enum:"token,key" doc:"a token that is sent with each request, or a key that signs it"`
	Key          string            `json:"key,omitempty" maxLength:"200" doc:"a key that the other side made, whsec_ and base64; one is made when left out"`
	OverlapHours int               `json:"overlap_hours,omitempty" minimum:"0" maximum:"168" doc:"for how long those of this kind hold on that were there before; they end at once when left out"`
}

// SenderSecret is a new token or key. Its text is shown once.
type SenderSecret struct {
	Kind   job.SenderKeyKind `json:"kind" enum:"token,key"`
	Secret string            `json:"secret" doc:"the token: send it as Authorization: Bearer; or the key: sign with it"`
}
