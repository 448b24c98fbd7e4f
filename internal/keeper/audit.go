package keeper

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/audit"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/record"
)

// accounted makes a change and keeps account of it: that it was asked for before anything is done, and what came of it afterwards. What can't be written down is not
// done. What a roster's files declare is so already most of the time, and is in git: it has one entry, once something is another.
func accounted[T any](ctx context.Context, k *Keeper, by Actor, w Wish[T]) (T, error) {
	about := w.Subject()
	if about.Verb == "look" { // nothing is changed
		return w.do(ctx, k, by)
	}
	e := audit.Entry{At: time.Now(), By: by.String(), Through: by.Through, Verb: about.Verb, Of: about.Of, Name: about.Name, With: wished(w), Outcome: audit.Begun}
	if by.Roster != "" {
		e.Through = "git"
	}
	var none T
	asked := 0
	if by.Roster == "" {
		var err error
		if asked, err = k.store.AddAudit(ctx, e); err != nil {
			return none, fmt.Errorf("that it was asked for can't be written down, so it is not done: %w", err)
		}
	}
	facts := func() map[string]string {
		if by.Roster != "" && about.Of == "ward" { // its file has them, and there may be very many
			return nil
		}
		return k.facts(ctx, about)
	}
	was := facts()
	var out T
	err := mayDo(k, by, w)
	if err == nil {
		out, err = w.do(ctx, k, by)
	}
	if t, quiet := any(out).(took); by.Roster != "" && (err != nil || quiet && !t.changed) { // the roster tells what is wrong with its files, at each look anew
		return out, err
	}
	end := audit.Entry{At: time.Now(), By: e.By, Through: e.Through, Verb: e.Verb, Of: e.Of, Name: e.Name, Asked: asked, Outcome: audit.Done}
	if asked == 0 {
		end.With = e.With
	}
	end.Was, end.Is = audit.Change(was, facts())
	if c, is := any(w).(interface{ came(T) details }); is && err == nil {
		maps.Copy(end.Is, c.came(out).texts())
	}
	var f *Fault
	switch {
	case errors.As(err, &f):
		end.Outcome, end.Why = audit.Refused, f.Text
	case err != nil:
		end.Outcome, end.Why = audit.Failed, err.Error()
	}
	if _, lost := k.store.AddAudit(context.WithoutCancel(ctx), end); lost != nil {
		k.log.Error("what came of it can't be written down; that it was asked for is", "what", about.Verb, about.Of, about.Name, "by", by.String(), "error", lost)
	}
	return out, err
}

// What came of wishes that name it in their answer.
func (StartRun) came(number int) details   { return details{"entry": number} }
func (AddWards) came(ids []string) details { return details{"wards": strings.Join(ids, ", ")} }

// byItself keeps account of what Vigila has done by itself, beside the runs of wards.
func (k *Keeper) byItself(ctx context.Context, about Subject, why string, with details) {
	e := audit.Entry{At: time.Now(), By: logbook.Vigila, Verb: about.Verb, Of: about.Of, Name: about.Name, With: with.texts(), Outcome: audit.Done, Why: why}
	if _, err := k.store.AddAudit(context.WithoutCancel(ctx), e); err != nil {
		k.log.Error("what Vigila has done by itself can't be written down", "what", about.Verb, about.Of, about.Name, "error", err)
	}
}

// Refused keeps account of a change that was refused before anybody looked at what is wished: whoever asked may not.
func (k *Keeper) Refused(ctx context.Context, by Actor, about Subject, why string) {
	e := audit.Entry{At: time.Now(), By: by.String(), Through: by.Through, Verb: about.Verb, Of: about.Of, Name: about.Name, Outcome: audit.Refused, Why: why}
	if _, err := k.store.AddAudit(context.WithoutCancel(ctx), e); err != nil {
		k.log.Error("what was refused can't be written down", "what", about.Verb, about.Of, about.Name, "by", by.String(), "error", err)
	}
}

// plain is what is not secret of something that is written as JSON, a text for each key; the time that it was made aside.
func plain(v any, more ...string) map[string]string {
	out := map[string]string{}
	text, err := json.Marshal(v)
	var all map[string]any
	if err == nil {
		err = json.Unmarshal(text, &all)
	}
	if err != nil {
		return out // it is made of texts, numbers and lists
	}
	delete(all, "made")
	delete(all, "person") // by whom it is says the entry
	for key, x := range all {
		if text, is := x.(string); is {
			if out[key] = text; key == "ca" && text != "" { // it is long; whom is trusted is another where its digest is
				out[key] = fmt.Sprintf("sha256:%.12x", sha256.Sum256([]byte(text)))
			}
		} else {
			b, _ := json.Marshal(x) // it was read from JSON
			out[key] = string(b)
		}
	}
	for i := 0; i+1 < len(more); i += 2 {
		if more[i+1] != "" {
			out[more[i]] = more[i+1]
		}
	}
	return out
}

// given says that a wish holds something secret, whatever it is.
func given(secrets ...string) string {
	if cmp.Or(secrets...) == "" {
		return ""
	}
	return "given"
}

// wished is what a wish asks for, as far as it is no secret: what is not named here is in no account.
func wished(w any) map[string]string {
	switch w := w.(type) {
	case RemoveWard:
		return details{"dismantle": w.Dismantle, "allow": w.Allow, "why": w.Why}.texts()
	case StartRun:
		a := w.Ask
		return details{"why": a.Why, "to_entry": a.ToEntry, "allow": a.Allow, "only": a.Only, "revision": a.Revision, "retry": a.Retry, "reapply": a.Reapply, "tasks": a.Tasks, "without_canaries": a.Now}.texts()
	case HoldWard:
		return details{"why": w.Why, "until": w.Until}.texts()
	case ReleaseWard:
		return details{"why": w.Why}.texts()
	case RejectRevision:
		return details{"revision": w.Revision, "why": w.Why}.texts()
	case LiftRejection:
		return details{"revision": w.Revision, "why": w.Why}.texts()
	case ProposeBack:
		return details{"entry": w.Entry, "branch": w.Branch}.texts()
	case SayCanary:
		return details{"why": w.Why}.texts()
	case AddRepo:
		return details{"credentials": given(w.Password, w.Key, w.SignKey, w.Passphrase), "trust": w.Trust}.texts()
	case AddCluster:
		return details{"credentials": given(w.Token, w.KubeconfigText, w.Kubeconfig)}.texts()
	case AddStore:
		return details{"credentials": given(w.Secret)}.texts()
	case AddMetrics:
		return details{"credentials": given(w.Password, w.Token)}.texts()
	case AddRegistry:
		return details{"credentials": given(w.Password, w.Token)}.texts()
	case SetHost:
		return plain(w.HostMore, "credentials", given(w.Token))
	case AddWay:
		return details{"address": given(w.URL), "credentials": given(w.Way.Secret)}.texts()
	case TryWay:
		return details{"to": w.To}.texts()
	case Mute:
		return details{"until": w.Until, "why": w.Why}.texts()
	case SetSecret:
		return details{"only_new": w.OnlyNew}.texts()
	case SyncRoster:
		return details{"allow": w.Allow}.texts()
	case openSession:
		return details{"from": w.From, "provider": w.Who.Provider, "groups": w.Who.Groups}.texts()
	case AddProvider:
		return details{"credentials": given(w.Secret)}.texts()
	case MakeToken:
		return details{"role": w.Role, "for": w.For.String(), "may": w.May}.texts()
	case ProposeFiles:
		var names []string
		for _, f := range w.Files.Files {
			names = append(names, f.Path)
		}
		return details{"branch": w.Files.Branch, "files": names}.texts()
	case PromoteLot:
		return details{"only": w.Only, "why": w.Why}.texts()
	case HoldStop:
		return details{"why": w.Why}.texts()
	case ReleaseStop:
		return details{"why": w.Why}.texts()
	case ApproveProposal:
		return details{"commit": w.Commit}.texts()
	case MergeProposal:
		return details{"commit": w.Commit, "why": w.Why}.texts()
	case WithdrawProposal:
		return details{"why": w.Why}.texts()
	}
	return nil
}

// details are what there is to say of a change, by name.
type details map[string]any

// texts are the details as they are written down; those that say nothing are left out.
func (all details) texts() map[string]string {
	for key, v := range all {
		if x := reflect.ValueOf(v); !x.IsValid() || x.IsZero() || x.Kind() == reflect.Slice && x.Len() == 0 {
			delete(all, key)
		}
		if at, is := v.(time.Time); is && !at.IsZero() {
			all[key] = at.UTC().Format(time.RFC3339)
		}
	}
	return plain(all)
}

// facts are what is known of something that can be changed, as far as it is no secret; nothing of what there is not.
func (k *Keeper) facts(ctx context.Context, about Subject) map[string]string {
	name := about.Name
	switch about.Of {
	case "repo":
		if l, err := k.source(name); err == nil {
			r := l.State().Repo
			host := ""
			if h := k.hostLoopOf(name); h != nil {
				host = h.conf.API + " " + h.conf.Project
			}
			return plain(r.RepoMore, "url", r.URL, "user", r.User, "host", host)
		}
	case "cluster":
		k.mu.RLock()
		defer k.mu.RUnlock()
		if l := k.clusters[name]; l != nil {
			server := l.conf.Server
			if l.conn != nil {
				server = l.conn.Server()
			}
			return plain(l.conf.ClusterMore, "server", server, "kubeconfig", l.conf.Kubeconfig, "context", l.conf.Context, "labels", toText(l.conf.Labels))
		}
	case "roster":
		k.mu.RLock()
		l := k.rosters[name]
		k.mu.RUnlock()
		if l != nil {
			c := l.record()
			return plain(c.Limits, "repo", c.Repo, "ref", c.Ref, "path", c.Path)
		}
	case "store":
		if l := k.storeLoopOf(name); l != nil {
			return plain(l.conf.ValueStoreMore)
		}
	case "way":
		if w, err := k.wayNamed(name); err == nil {
			return plain(w.WayMore)
		}
	case "alerts":
		if m, is := k.MutedUntil(name); is {
			return map[string]string{"muted until": m.Until.UTC().Format(time.RFC3339), "why": m.Why}
		}
	case "metrics source":
		k.mu.RLock()
		defer k.mu.RUnlock()
		for _, m := range k.measured {
			if m.Name == name {
				return plain(m.MetricsMore, "url", m.URL)
			}
		}
	case "registry":
		k.mu.RLock()
		defer k.mu.RUnlock()
		for _, r := range k.registries {
			if r.Name == name {
				return plain(r.RegistryMore, "host", r.Host)
			}
		}
	case "team": // a file may hold several; what is as it was is not written
		out := map[string]string{}
		for _, t := range k.Teams() {
			out[t.Name] = t.String()
		}
		return out
	case "provider":
		if p, known := k.providerNamed(name); known {
			return plain(p.ProviderMore)
		}
	case "token":
		all, err := k.store.Tokens(ctx)
		for _, t := range all {
			if err == nil && t.Name == name && !Ended(t) {
				return details{"role": t.Role, "may": t.May, "ends": t.Expires}.texts()
			}
		}
	case "ward":
		return k.wardFacts(name)
	}
	return nil
}

// wardFacts are those of a ward that people change: whether it is kept, held, and what it is not to go to. Of one that is placed several times all placements are meant.
func (k *Keeper) wardFacts(name string) map[string]string {
	out := map[string]string{}
	for _, p := range k.named(name) {
		v := p.View()
		at := ""
		if v.ID != name {
			at = " in " + v.Cluster
		}
		out["kept"+at] = "yes"
		if v.Hold != nil {
			out["held"+at] = "by " + v.Hold.By + ": " + v.Hold.Reason
		}
		if v.Leaving != nil {
			out["being removed"+at] = "yes"
		}
		var rejected []string
		for _, r := range v.Rejections {
			rejected = append(rejected, r.Revision[:min(7, len(r.Revision))])
		}
		if len(rejected) > 0 {
			out["rejected"+at] = strings.Join(rejected, ", ")
		}
	}
	return out
}

func toText(v map[string]string) string {
	if len(v) == 0 {
		return ""
	}
	b, _ := json.Marshal(v) // texts
	return string(b)
}

// Audit is one page of what was done, and how much there is on all pages.
func (k *Keeper) Audit(ctx context.Context, f record.FindAudit) ([]record.Accounted, int, error) {
	return k.store.Audit(ctx, f)
}

// VerifyAudit looks whether the account of what was done is what was written, and holds a line that somebody has kept elsewhere, if any.
func (k *Keeper) VerifyAudit(ctx context.Context, kept audit.Line) (record.Verified, error) {
	return k.store.VerifyAudit(ctx, kept)
}
