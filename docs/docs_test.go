package docs_test

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/docs"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/preset"
	"yorvet.example/yorvet/internal/core/resolve"
)

// The glossary has each word that files and answers use for one of several things, once.
func TestWords(t *testing.T) {
	text, err := docs.Files.ReadFile("words.md")
	if err != nil {
		t.Fatal(err)
	}
	var defined []string
	for line := range strings.Lines(string(text)) {
		cells := strings.Split(line, "|")
		if len(cells) != 4 || strings.Contains(cells[1], "---") || strings.TrimSpace(cells[1]) == "word" {
			continue
		}
		for word := range strings.SplitSeq(cells[1], ",") {
			if word = strings.TrimSpace(word); slices.Contains(defined, word) {
				t.Errorf("%s is told twice", word)
			}
			defined = append(defined, strings.TrimSpace(word))
		}
		if strings.TrimSpace(cells[2]) == "" {
			t.Errorf("%s has no meaning", cells[1])
		}
	}
	for _, word := range slices.Concat(estate.KindWords(), estate.VerdictWords(), resolve.OutcomeWords()) {
		if word != "" && !slices.Contains(defined, word) {
			t.Errorf("%s is not in the glossary", word)
		}
	}
	for _, word := range slices.Concat(estate.CopyWords(), preset.Names()) {
		if !strings.Contains(string(text), word) {
			t.Errorf("the glossary does not name %s", word)
		}
	}
}

// Every link between documents leads to a file, and to a heading if it names one.
func TestLinks(t *testing.T) {
	link := regexp.MustCompile(`\]\(([^)\s]+)\)`)
	files, err := filepath.Glob("*.md")
	if err != nil || len(files) == 0 {
		t.Fatal(err)
	}
	for _, file := range append(files, "../README.md", "../CONTRIBUTING.md") {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, found := range link.FindAllStringSubmatch(string(text), -1) {
			target, heading, _ := strings.Cut(found[1], "#")
			if strings.Contains(target, ":") {
				continue
			}
			path := filepath.Join(filepath.Dir(file), target)
			if target == "" {
				path = file
			}
			to, err := os.ReadFile(path)
			if info, statErr := os.Stat(path); statErr != nil || err != nil && !info.IsDir() {
				t.Errorf("%s: %s leads nowhere", file, found[1])
			} else if heading != "" && !slices.Contains(anchors(string(to)), heading) {
				t.Errorf("%s: %s has no heading #%s", file, target, heading)
			}
		}
	}
}

// anchors are the names of the headings of a document, as links give them.
func anchors(text string) []string {
	var list []string
	for line := range strings.Lines(text) {
		if strings.HasPrefix(line, "#") {
			name := strings.ToLower(strings.TrimSpace(strings.TrimLeft(line, "#")))
			name = regexp.MustCompile(`[^\p{L}\p{N} _-]`).ReplaceAllString(name, "")
			list = append(list, strings.ReplaceAll(name, " ", "-"))
		}
	}
	return list
}
