package watch

import (
	"context"
	"encoding/json"
	"time"

	"yorvet.example/yorvet/internal/history"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
)

// alarms returns the alarms that an answer raises.
func (w *Watcher) alarms(e *present.WatchEvent, a *store.KeptResult, news *store.News, now time.Time) []store.Alarm {
	if !e.Alarm || len(w.Plan.Channels) == 0 {
		return nil
	}
	body, err := json.Marshal(e.Short())
	if err != nil {
		w.OnError(err.Error())
		return nil
	}
	alarm := store.Alarm{ID: a.ID, Plan: w.Plan.Name, Item: e.Item, Record: a.ID, At: now, Body: string(body),
		Ways: map[string]time.Time{}}
	for _, channel := range w.Plan.Channels {
		alarm.Ways[channel.Name] = now
		if channel.Batch != nil {
			alarm.Ways[channel.Name] = channel.Batch.First("", now).Due
		}
	}
	return []store.Alarm{alarm}
}

// How long a channel that is down is left alone: twice as long each time.
const (
	firstWait = 15 * time.Second
	mostWait  = 30 * time.Minute
	sending   = 2 * time.Minute // the lease of what goes out
)

// Deliver sends the alarms that are due, by every channel, and reports whether any did not go out.
func (w *Watcher) Deliver(ctx context.Context, now time.Time) (failed bool) {
	for i := range w.Plan.Channels {
		channel := &w.Plan.Channels[i]
		for ctx.Err() == nil {
			b, err := w.Store.ClaimBatch(ctx, w.Plan.Name, channel.Name, history.NewID(), w.Name, now, sending)
			if err != nil {
				w.outage.Note(err)
				failed = true
				break
			}
			if b == nil {
				break
			}
			if err := w.Send(ctx, channel, b); err != nil {
				wait := min(firstWait<<min(b.Tries-1, 10), mostWait)
				w.OnError("alarms by " + channel.Name + " do not go out, and are tried again in " + wait.String() + ": " + err.Error())
				if err := w.Store.MarkFailed(context.WithoutCancel(ctx), b, w.Name, err.Error(), now.Add(wait)); err != nil {
					w.OnError(err.Error())
				}
				failed = true
				break
			}
			if err := w.Store.MarkSent(context.WithoutCancel(ctx), b, w.Name); err != nil {
				w.OnError("alarms by " + channel.Name + " went out, and may go out again under the same name: " + err.Error())
				break
			}
		}
	}
	return failed
}

// Recall reads what is known of the items, as others may have kept it.
func (w *Watcher) Recall(ctx context.Context) error {
	latest, err := w.Store.Latest(ctx)
	if err != nil {
		return err
	}
	known := map[string]*store.KeptResult{}
	for i := range latest {
		known[latest[i].Item] = &latest[i]
	}
	for i := range w.Plan.Items {
		item := &w.Plan.Items[i]
		w.note(item, func(s *ItemStatus) {
			if a := known[w.Plan.Name+"/"+item.Name]; a != nil && a.Ended.After(s.Ended) {
				s.State, s.Began, s.Ended, s.Good, s.Bad, s.Says = a.State, a.Began, a.Ended, a.Good, a.Bad, a.Says
			}
		})
	}
	return nil
}
