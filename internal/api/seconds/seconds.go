// Package seconds has the durations of the contract.
package seconds

import (
	"encoding/json"
	"fmt"
	"strconv"
	"time"
)

// Seconds is a duration. In JSON it is a number of seconds.
type Seconds time.Duration

// Duration returns it as a time.Duration.
func (s Seconds) Duration() time.Duration { return time.Duration(s) }

// MarshalJSON writes it as a number of seconds.
func (s Seconds) MarshalJSON() ([]byte, error) {
	return strconv.AppendFloat(nil, time.Duration(s).Seconds(), 'f', -1, 64), nil
}

// UnmarshalJSON reads a number of seconds, up to some hundred years.
func (s *Seconds) UnmarshalJSON(text []byte) error {
	var f float64
	if err := json.Unmarshal(text, &f); err != nil {
		return err
	}
	const most = float64(1<<63-1) / 1e9
	if f < -most || f > most {
		return fmt.Errorf("%s seconds are too many", text)
	}
	*s = Seconds(f * 1e9)
	return nil
}
