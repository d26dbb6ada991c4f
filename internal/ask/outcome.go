package ask

import (
	"crypto/sha256"
	"encoding/hex"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/history"
	"yorvet.example/yorvet/internal/present"
)

// outcome returns what is kept of the answer to a question, without what it found.
func (at *Place) outcome(kind string, began time.Time, a present.Answer) *history.Outcome {
	return &history.Outcome{Series: history.NewSeries(kind, at.Path, ""), Began: began, Day: at.Day.String(),
		Version: at.Version, Says: present.FirstLine(a)}
}

// nameOf returns a name for what some values are about: it is the same in every answer.
func nameOf(values ...string) string {
	sum := sha256.Sum256([]byte(strings.Join(values, "\x00")))
	return hex.EncodeToString(sum[:8])
}
