package watch

import (
	"bytes"
	"context"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"html/template"
	"net/http"
	"strconv"
	"time"

	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
)

//go:embed items.html
var itemsHTML string

//go:embed items.css
var itemsCSS string

var itemsPage = template.Must(template.New("items").Parse(itemsHTML))

// itemsPolicy lets the page of the items use its own style, and nothing else.
var itemsPolicy = func() string {
	sum := sha256.Sum256([]byte(itemsCSS))
	return "default-src 'none'; style-src 'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) +
		"'; img-src data:; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
}()

// itemRow is an item on the page.
type itemRow struct {
	Name, Kind, State, Ended, Took, Due, Says string
	Late                                      bool
}

// items serves the page of what is watched.
func (p *Page) items(w http.ResponseWriter, r *http.Request) {
	now, status := p.Worker.Store.Now(), p.Worker.Now()
	health := p.Worker.Health(now)
	clock := func(t time.Time) string {
		if t.IsZero() {
			return "-"
		}
		return t.UTC().Format("2006-01-02 15:04:05")
	}
	page := struct {
		Plan, Says, Now string
		Style           template.CSS
		Items           []itemRow
		Waiting         []store.Backlog
	}{Plan: p.Worker.Plan.Name, Now: clock(now) + " UTC", Style: template.CSS(itemsCSS)}
	counts := map[string]int{}
	for i := range p.Worker.Plan.Items {
		item := &p.Worker.Plan.Items[i]
		s := status.Items[item.Name]
		row := itemRow{Name: item.Name, Kind: item.Kind, State: s.State, Ended: clock(s.Ended), Took: "-", Due: clock(s.Due),
			Says: present.Clean(s.Says), Late: health.Items[item.Name].Late}
		if !s.Ended.IsZero() {
			row.Took = s.Ended.Sub(s.Began).Round(time.Millisecond).String()
		}
		counts[s.State]++
		page.Items = append(page.Items, row)
	}
	page.Says = summary(len(page.Items), counts)
	ctx, cancel := context.WithTimeout(r.Context(), 5*time.Second)
	defer cancel()
	page.Waiting, _ = p.Worker.Store.Backlogs(ctx, p.Worker.Plan.Name) // without a store the health says so
	var b bytes.Buffer
	if err := itemsPage.Execute(&b, page); err != nil {
		http.Error(w, "the page cannot be made", http.StatusInternalServerError)
		p.Worker.OnError(err.Error())
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", itemsPolicy)
	within(w)
	_, _ = w.Write(b.Bytes())
}

// summary says how the items are, in a line that adds up.
func summary(all int, counts map[string]int) string {
	text := present.Count(all, "item", "items")
	for _, part := range []struct{ state, word string }{
		{store.Broken, "cannot be answered"}, {store.Wrong, "wrong"}, {store.Good, "good"}, {"", "not answered yet"},
	} {
		if n := counts[part.state]; n > 0 {
			text += ", " + strconv.Itoa(n) + " " + part.word
		}
	}
	return text
}
