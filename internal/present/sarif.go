package present

import (
	"cmp"
	"slices"
)

// The parts of a log in SARIF 2.1.0 (OASIS) that hazards need, by their names there.
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool       sarifTool     `json:"tool"`
		ColumnKind string        `json:"columnKind"`
		Results    []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name  string      `json:"name"`
		Rules []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID               string             `json:"id"`
		ShortDescription sarifText          `json:"shortDescription"`
		FullDescription  sarifText          `json:"fullDescription"`
		Help             sarifText          `json:"help"`
		Default          sarifConfiguration `json:"defaultConfiguration"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifConfiguration struct {
		Level string `json:"level"`
	}
	sarifResult struct {
		RuleID       string             `json:"ruleId"`
		RuleIndex    int                `json:"ruleIndex"`
		Level        string             `json:"level"`
		Message      sarifText          `json:"message"`
		Locations    []sarifLocation    `json:"locations,omitempty"`
		Suppressions []sarifSuppression `json:"suppressions,omitempty"`
		Fingerprints map[string]string  `json:"partialFingerprints"`
		Baseline     string             `json:"baselineState,omitempty"`
	}
	sarifLocation struct {
		Physical sarifPhysical `json:"physicalLocation"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   *sarifRegion  `json:"region,omitempty"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		StartLine   int `json:"startLine"`
		StartColumn int `json:"startColumn"`
	}
	sarifSuppression struct {
		Kind          string `json:"kind"`
		Justification string `json:"justification"`
	}
)

const sarifSchema = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"

// sarif returns the hazards as a log of SARIF 2.1.0 (OASIS), sections 3.13 to
// 3.35.
func (a *Hazards) sarif() any {
	levels := map[string]string{"high": "error", "medium": "warning", "low": "note"}
	rules := []sarifRule{}
	index := map[string]int{}
	for i, check := range a.checks {
		index[check.Name] = i
		rules = append(rules, sarifRule{
			ID:               check.Name,
			ShortDescription: sarifText{check.Trap},
			FullDescription:  sarifText{oneLine(check.Doc)},
			Help:             sarifText{check.Cure},
			Default:          sarifConfiguration{levels[check.Severity.String()]},
		})
	}
	results := []sarifResult{}
	state := ""
	if a.baseline != "" {
		state = "new"
	}
	for i, f := range slices.Concat(a.found, a.accepted, a.known) {
		h := a.n.hazard(f)
		one := sarifResult{
			RuleID:    h.Name,
			RuleIndex: index[h.Name],
			Level:     levels[h.Severity],
			Message:   sarifText{h.Says + " " + h.Fix},
			// Section 3.27.17: the same from one run to the next, so that only new ones are shown.
			Fingerprints: map[string]string{"hazard/v1": h.ID},
			Baseline:     state,
		}
		if i >= len(a.found) && a.baseline != "" {
			one.Baseline = "unchanged"
		}
		if h.File != "" {
			region := &sarifRegion{h.Line, cmp.Or(h.Column, 1)}
			one.Locations = []sarifLocation{{sarifPhysical{sarifArtifact{fileURI(h.File)}, region}}}
		}
		if h.Because != "" {
			one.Suppressions = []sarifSuppression{{"inSource", h.Because}}
		}
		results = append(results, one)
	}
	tool := sarifTool{sarifDriver{"Yorvet", rules}}
	return sarifLog{sarifSchema, "2.1.0", []sarifRun{{tool, "unicodeCodePoints", results}}}
}
