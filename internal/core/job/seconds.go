package job

import "time"

// Seconds is a length of time that is kept as a number of seconds.
func Seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }
