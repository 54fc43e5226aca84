package job

// Heartbeat is the address that a sign of life goes to, so that silence is noticed
// elsewhere.
type Heartbeat struct {
	URL   string   `json:"url" maxLength:"2000" doc:"address that is asked by GET; none when empty"`
	Every Duration `json:"every,omitempty" doc:"between two signs of life; 1m when left out"`
}
