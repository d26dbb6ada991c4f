package secret

import (
	"encoding/base64"
	"slices"
	"strings"
	"sync"
)

// known are the secrets that this process has had, with what takes them out of texts.
var known struct {
	sync.Mutex
	texts  []string
	hiding *strings.Replacer // nil: there are others since
}

const (
	leastHidden = 4     // characters: what is shorter stands in too many words
	mostHidden  = 1_000 // secrets: tokens come and go
)

// note has Hide take a secret out of texts from now on.
func note(text string) {
	if len(text) < leastHidden {
		return
	}
	known.Lock()
	defer known.Unlock()
	if slices.Contains(known.texts, text) {
		return
	}
	if len(known.texts) == mostHidden {
		known.texts = known.texts[1:]
	}
	known.texts, known.hiding = append(known.texts, text), nil
}

// Hide returns a text that a server may have written without the secrets that this process has had: as
// they are, and in Base64 (RFC 4648), by themselves or within what is encoded with them.
func Hide(text string) string {
	known.Lock()
	if known.hiding == nil {
		// A secret that holds another one is taken out first.
		texts := slices.SortedFunc(slices.Values(known.texts), func(a, b string) int { return len(b) - len(a) })
		var pairs []string
		for _, secret := range texts {
			pairs = append(pairs, secret, "(secret)")
			for _, encoded := range encodings(secret) {
				pairs = append(pairs, encoded, "(secret)")
			}
		}
		known.hiding = strings.NewReplacer(pairs...)
	}
	hiding := known.hiding
	known.Unlock()
	return hiding.Replace(text)
}

// encodings returns the characters of Base64 that a secret alone decides, wherever it begins among the
// three bytes that are encoded at once.
func encodings(secret string) (list []string) {
	for _, encoding := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
		for before := range 3 {
			text := encoding.EncodeToString([]byte("\x00\x00"[:before] + secret))
			first := (before*8 + 5) / 6 // characters that what stands before decides, too
			last := (before + len(secret)) * 8 / 6
			if text = text[first:last]; len(text) >= leastHidden && !slices.Contains(list, text) {
				list = append(list, text)
			}
		}
	}
	return list
}
