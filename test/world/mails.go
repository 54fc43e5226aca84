package world

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"

	"github.com/stretchr/testify/require"
)

// Bounces lets the service read the mailbox that the mail servers send back to.
func (w *World) Bounces() {
	w.T.Helper()
	host, port := w.HostPort(w.Out.Mailbox)
	require.NoError(w.T,
		w.C.SaveBounces(context.Background(), map[string]any{
			"host": host, "port": port, "security": "none", "user": w.Out.User, "password": w.Out.Password,
			"every": "1s",
		}))
}

// AllHeard waits until each of some echoes was asked.
func (w *World) AllHeard(echoes map[string]*Echo) {
	w.T.Helper()
	w.Until("each is asked", func() bool {
		for _, e := range echoes {
			if e.heard.Load() == 0 {
				return false
			}
		}
		return true
	})
}

// Received are the requests that came to the receiver.
func (w *World) Received() (all []struct {
	Path, Body string
	Headers    map[string]string
},
) {
	w.T.Helper()
	require.NoError(w.T, json.Unmarshal(w.Get(w.Out.Inbox+"/api/received"), &all))
	return all
}

// MailStorm makes a job that mails to n addresses.
func (w *World) MailStorm(name string, n int) {
	w.T.Helper()
	w.Report("Departures", "SELECT 'Tarnwick Quay' AS port, 12 AS sailings")
	to := make([]string, n)
	for i := range to {
		to[i] = fmt.Sprintf("reader%03d@tarnwick.example", i)
	}
	w.Job(name, Definition("Departures", "company mail", []string{"html-mail"}, to...))
}

// Letter is a message in the stand-in's inbox.
type Letter struct {
	ID          int      `json:"id"`
	From        string   `json:"from"`
	To          []string `json:"to"`
	Subject     string   `json:"subject"`
	MessageID   string   `json:"message_id"`
	Plain       string   `json:"plain"`
	HTML        string   `json:"html"`
	Attachments []struct {
		Name string `json:"name"`
		Size int    `json:"size"`
	} `json:"attachments"`
}

// Inbox lists the letters to an address, the newest first.
func (w *World) Inbox(to string) []Letter {
	w.T.Helper()
	var all, mine []Letter
	require.NoError(w.T, json.Unmarshal(w.Get(w.Out.Inbox+"/api/messages"), &all))
	for _, l := range all {
		if l.To[0] == to {
			mine = append(mine, l)
		}
	}
	return mine
}

// Attachment fetches a file of a letter.
func (w *World) Attachment(l Letter, n int) []byte {
	return w.Get(fmt.Sprintf("%s/messages/%d/files/%d", w.Out.Inbox, l.ID, n))
}

// Behave tells a stand-in how to behave.
func (w *World) Behave(server, mode string, delay int) { w.BehaveTo(server, mode, "", delay) }

// BehaveTo tells a stand-in how to behave towards one recipient.
func (w *World) BehaveTo(server, mode, only string, delay int) {
	w.T.Helper()
	text, err := json.Marshal(map[string]any{"mode": mode, "only": only, "delay_ms": delay})
	require.NoError(w.T, err)
	req, err := http.NewRequest(http.MethodPut, w.Out.Inbox+"/api/servers/"+server, bytes.NewReader(text))
	require.NoError(w.T, err)
	res, err := http.DefaultClient.Do(req)
	require.NoError(w.T, err)
	_ = res.Body.Close()
	require.Equal(w.T, http.StatusOK, res.StatusCode)
}
