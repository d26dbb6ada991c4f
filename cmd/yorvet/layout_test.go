package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/campaign"
	"yorvet.example/yorvet/internal/demo"
)

// shownCommands are commands whose answers are looked at in all widths.
var shownCommands = []string{
	"who posts sailing-notices", "who posts skippers", "who posts lost-property --unproven", "who posts stores",
	"who receives sailing-notices --from odile.renn", "who receives sailing-notices --all", "who receives works-council",
	"who receives lost-property --from cosmo.reed@volunteers.example --all", "who receives galley", "who receives sailing-notices --from ines.maro",
	"who sends-as charter", "who sends-as lost-property", "who approves lifeboat-drill", "who reads volunteers", "who joins charter", "who finds works-council", "who manages galley",
	"explain --from odile.renn --to sailing-notices", "explain --from yva.lorne --to sailing-notices --all", "explain --from passenger@holiday.example --to found@kelpmereferries.example",
	"explain --from lena.coil --to lost-property --as charter", "explain --from ines.maro --to lost-property --unproven", "explain --from ines.maro --to noor.hadock@kelpmere.example",
	"person nora.teale", "person odile.renn --all", "person joss.hale", "person cosmo.reed@volunteers.example",
	"matrix", "matrix --all --sort hazards", "group list", "group show charter", "group presets",
	"check", "check --all", "check --only forgeable --only nested-stops", "check --by group", "check --explain forgeable",
	"expect kelpmere.expect", "expect kelpmere.expect --all", "compare estate served", "compare served estate", "compare estate estate",
	"member add volunteers --from volunteers.txt --preview", "member list lost-property", "member list deck-crew --all", "member remove deck-crew fenna.dry --preview",
	"group set timetable copy=every title=Times --preview", "group rename charter hire@kelpmere.example --preview", "group remove old-regatta --preview",
	"group new storm-desk@kelpmere.example --preset desk --owner ines.maro --preview",
	"log mail.log", "log mail.log --to sailing-notices", "log mail.log --message umbrella@holiday.example", "log mail.log --as charter --all",
	"probe lost-property charter", "probe --all", "rollcall galley --as abel.crook@kelpmere.example", "help words", "help outcomes", "version",
}

// In 60, 80 and 120 columns, no address and no place is broken, every place is one on
// disk, and lines are no longer than the page but for what cannot be broken.
func TestLayout(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	if err := demo.Write(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	connections := "yorvet-connections: 1\nsend:\n  - {name: any, server: 'mail.kelpmere.example:465', from: ['@kelpmere.example', '@kelpmere-cargo.example', guest@holiday.example], claims: true}\nstrangers: [guest@holiday.example]\n"
	if err := os.WriteFile(filepath.Join(dir, "connections.yaml"), []byte(connections), 0o600); err != nil {
		t.Fatal(err)
	}
	known := addressesIn(t, dir)
	for i, line := range shownCommands {
		for j, width := range []int{60, 80, 120} {
			if i%3 != j && !campaign.On() {
				continue
			}
			r := run(t, dir, []string{"COLUMNS=" + strconv.Itoa(width)}, append([]string{"--on", "2026-11-23"}, split(line)...))
			if r.code > 1 {
				t.Errorf("%s ends with %d: %s", line, r.code, r.stderr)
				break
			}
			for block := range strings.SplitSeq(r.stdout, "\n\n") {
				longest := 0 // what is not broken makes the column of a table as wide as it is
				for word := range strings.FieldsSeq(block) {
					longest = max(longest, len(word))
				}
				for text := range strings.Lines(block) {
					text = strings.TrimRight(text, "\n")
					checkLine(t, dir, fmt.Sprintf("%s at %d", line, width), text, known)
					if len([]rune(text)) > width && longest < width/3 {
						t.Errorf("%s: %d columns of %d: %q", line, len(text), width, text)
					}
				}
			}
		}
	}
}

var (
	addressWord = regexp.MustCompile(`[^\s"'(),;:<>{}\[\]=|]+@[^\s"'(),;:<>{}\[\]=|]*`)
	placeWord   = regexp.MustCompile(`[^\s"'(),;]+\.(?:yaml|csv|expect|txt):\d[\d:]*`)
)

// checkLine checks a line of an answer.
func checkLine(t *testing.T, dir, name, line string, known map[string]bool) {
	t.Helper()
	for _, word := range addressWord.FindAllString(line, -1) {
		word = strings.ToLower(strings.TrimRight(word, ".?!"))
		if !known[word] {
			t.Errorf("%s: %q is no address that is there, in %q", name, word, line)
		}
	}
	for _, place := range placeWord.FindAllString(line, -1) {
		parts := strings.Split(place, ":")
		data, err := os.ReadFile(filepath.Join(dir, parts[0]))
		number, _ := strconv.Atoi(parts[1])
		if err != nil || number < 1 || number > strings.Count(string(data), "\n") {
			t.Errorf("%s: %s is no place on disk: %v", name, place, err)
		}
	}
}

// addressesIn returns all addresses that stand in the files of a folder, and those that
// commands and the program make up.
func addressesIn(t *testing.T, dir string) map[string]bool {
	known := map[string]bool{"@kelpmere.example": true, "@kelpmere-cargo.example": true, "@domain": true, "@*.domain": true, "x@b.example": true}
	for _, line := range shownCommands {
		for _, word := range addressWord.FindAllString(line, -1) {
			known[strings.ToLower(word)] = true
		}
	}
	for _, one := range []string{"guest@holiday.example", "forger@kelpmere.example"} {
		known[one] = true
	}
	roots := []string{dir, "../../docs"}
	for _, root := range roots {
		err := filepath.WalkDir(root, func(path string, entry os.DirEntry, err error) error {
			if err != nil || entry.IsDir() {
				return err
			}
			data, err := os.ReadFile(path)
			for _, word := range addressWord.FindAllString(strings.NewReplacer("`", " ", "*", " ").Replace(string(data)), -1) {
				known[strings.ToLower(strings.TrimRight(word, ".?!\\"))] = true
			}
			for row := range strings.Lines(string(data)) { // of tables
				for cell := range strings.SplitSeq(row, ",") {
					known[strings.ToLower(strings.TrimSpace(cell))] = true
				}
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	return known
}

// unwrapped is where a sentence goes on in the next line.
var unwrapped = regexp.MustCompile(`\n  +`)

// The counts of the first line are those of the JSON.
func TestFirstLinesCount(t *testing.T) {
	dir := t.TempDir()
	if err := demo.Write(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		line string
		want func(map[string]any) string
	}{
		{"check", func(a map[string]any) string {
			counts := a["counts"].(map[string]any)
			return fmt.Sprintf("%d hazards: %v high, %v medium, %v low", len(a["hazards"].([]any)), counts["high"], counts["medium"], counts["low"])
		}},
		{"check --only forgeable", func(a map[string]any) string {
			return fmt.Sprintf("%d hazards: %v high", len(a["hazards"].([]any)), a["counts"].(map[string]any)["high"])
		}},
		{"expect kelpmere.expect", func(a map[string]any) string {
			all := a["expectations"].([]any)
			broken := 0
			for _, one := range all {
				if !one.(map[string]any)["holds"].(bool) {
					broken++
				}
			}
			return fmt.Sprintf("%d expectations: %d broken, %d hold", len(all), broken, len(all)-broken)
		}},
		{"compare estate served", func(a map[string]any) string {
			counts := map[string]int{}
			for _, change := range a["changes"].([]any) {
				has := false
				for part, lists := range map[string][]string{"posts": {"posts", "otherPosts"}, "receives": {"receives", "otherReceives"}, "sendsAs": {"sendsAs"}, "may": {"may"}} {
					n := 0
					for _, list := range lists {
						n += len(change.(map[string]any)[list].([]any))
					}
					if n > 0 {
						counts[part]++
						has = true
					}
				}
				if has {
					counts["effect"]++
				}
			}
			return fmt.Sprintf("%d groups change (posting in %d, receiving in %d, send-as in %d, access in %d)",
				counts["effect"], counts["posts"], counts["receives"], counts["sendsAs"], counts["may"])
		}},
		{"who posts sailing-notices", func(a map[string]any) string {
			counts := map[string]int{}
			for _, person := range a["people"].([]any) {
				counts[person.(map[string]any)["verdict"].(string)]++
			}
			return fmt.Sprintf("%d of %d people may post, %d held, %d refused", counts["admit"], len(a["people"].([]any)), counts["hold"], counts["refuse"])
		}},
		{"who receives sailing-notices --from odile.renn", func(a map[string]any) string {
			gets, all := 0, a["recipients"].([]any)
			for _, one := range all {
				if outcome := one.(map[string]any)["outcome"]; outcome == "inbox" || outcome == "digest" {
					gets++
				}
			}
			return fmt.Sprintf("%d of %d addresses get it, %d do not", gets, len(all), len(all)-gets)
		}},
		{"matrix", func(a map[string]any) string {
			with, groups := 0, a["groups"].([]any)
			for _, g := range groups {
				if g.(map[string]any)["hazards"].(float64) > 0 {
					with++
				}
			}
			return fmt.Sprintf("%d groups: %d with hazards", len(groups), with)
		}},
	} {
		args := append([]string{"--on", "2026-11-23"}, split(c.line)...)
		text := run(t, dir, []string{"COLUMNS=200"}, args)
		var answer map[string]any
		if err := json.Unmarshal([]byte(run(t, dir, nil, append(slices.Clone(args), "--json")).stdout), &answer); err != nil {
			t.Fatalf("%s: %v", c.line, err)
		}
		first := unwrapped.ReplaceAllString(text.stdout, " ")
		first, _, _ = strings.Cut(first, "\n")
		if want := c.want(answer); !strings.Contains(first, want) {
			t.Errorf("%s begins with %q, want %q", c.line, first, want)
		}
	}
}
