package keeper

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"vigila.dev/vigila/internal/core/alert"
	"vigila.dev/vigila/internal/core/proposal"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/notify"
	"vigila.dev/vigila/internal/record"
)

// alerts is who is told of what: what rosters declare, what is remembered, and how it is sent.
type alerts struct {
	mu     sync.Mutex
	rules  map[string]alert.Rule
	states map[string]alert.State // as the record has them; of a rule that was not looked at yet there is none
	ways   []record.Way
	mutes  map[string]record.Mute
	busy   map[string]bool            // ways that are sent by just now
	owed   map[string]record.Delivery // tried, and how it went could not be written yet
	wake   chan struct{}              // something may have to be told
	send   chan struct{}              // something may have to be sent
}

func newAlerts() alerts {
	return alerts{rules: map[string]alert.Rule{}, states: map[string]alert.State{}, mutes: map[string]record.Mute{}, busy: map[string]bool{}, owed: map[string]record.Delivery{}, wake: make(chan struct{}, 1), send: make(chan struct{}, 1)}
}

// Alert is an alert as it stands.
type Alert struct {
	alert.Rule
	Told    int      // troubles that somebody was told of, and that are not over
	Waiting int      // that are there, and that nobody is told of yet: for how long they last, or because it is quiet
	Missing []string // ways that there are not
}

func (k *Keeper) openAlerts(ctx context.Context) error {
	ways, err := k.store.Ways(ctx)
	mutes, err2 := k.store.Mutes(ctx, time.Now())
	k.alerts.mu.Lock()
	defer k.alerts.mu.Unlock()
	k.alerts.ways = ways
	for _, m := range mutes {
		k.alerts.mutes[m.Subject] = m
	}
	return errors.Join(err, err2)
}

// setAlerts takes the alerts that a roster's files declare. Those of a file that can't be read stay as they were.
func (l *rosterLoop) setAlerts(in *roster.Files) (problems []roster.Problem) {
	k, conf := l.k, l.record()
	k.alerts.mu.Lock()
	defer k.alerts.mu.Unlock()
	want := map[string]alert.Rule{}
	for _, r := range in.Alerts {
		no := func(format string, args ...any) {
			problems = append(problems, roster.Problem{File: r.File, Line: r.Line, Text: fmt.Sprintf(format, args...)})
		}
		r.Roster = conf.Name
		first, twice := want[r.Name]
		other, known := k.alerts.rules[r.Name]
		outside := slices.IndexFunc(r.Wards.Rosters, func(x string) bool { return x != conf.Name })
		switch {
		case twice:
			no("alert %s is declared twice; first at %s:%d", r.Name, first.File, first.Line)
		case known && other.Roster != conf.Name:
			no("alert %s is declared by roster %s already", r.Name, other.Roster)
		case conf.Limits.Any() && outside >= 0:
			no("it is more than its roster may: roster %s has limits, so alerts tell of its own wards, not those of roster %s", conf.Name, r.Wards.Rosters[outside])
		default:
			if conf.Limits.Any() {
				r.Wards.Rosters = []string{conf.Name}
			}
			r.To = slices.DeleteFunc(slices.Clone(r.To), func(to alert.To) bool {
				w := k.alerts.way(to.Way)
				if w == nil || !closed(w, conf) {
					return false
				}
				no("alert %s goes to %s, which is not for roster %s; nobody is told by it: vigila alert way add %s … --for-roster %s", r.Name, to.Way, conf.Name, to.Way, conf.Name)
				return true
			})
			for _, to := range r.To {
				if w := k.alerts.way(to.Way); w == nil {
					no("alert %s goes to %s, and there is no such way; nobody is told by it: vigila alert way add %s --kind chat", r.Name, to.Way, to.Way)
				} else if err := wayOf(*w).Leads(to.Addresses); err != nil {
					no("alert %s goes to %s, and nobody is told by it: %v", r.Name, to.Way, err)
				}
			}
			want[r.Name] = r
		}
	}
	for name, r := range k.alerts.rules {
		if _, is := want[name]; r.Roster == conf.Name && !is && in.Broken[r.File] == "" {
			delete(k.alerts.rules, name)
			rouse(k.alerts.wake)
		}
	}
	for name, r := range want {
		if !reflect.DeepEqual(k.alerts.rules[name], r) {
			k.alerts.rules[name] = r
			rouse(k.alerts.wake)
		}
	}
	return problems
}

// closed tells whether the alerts of a roster may not go by a way. Whoever writes the files of a roster with limits is not trusted with everything, such as with
// writing to whom they like.
func closed(w *record.Way, r roster.Roster) bool {
	return !slices.Contains(w.Rosters, r.Name) && (len(w.Rosters) > 0 || r.Limits.Any())
}

// forgetAlertsOf forgets what a roster has declared that is no more.
func (k *Keeper) forgetAlertsOf(name string) {
	k.alerts.mu.Lock()
	defer k.alerts.mu.Unlock()
	maps.DeleteFunc(k.alerts.rules, func(_ string, r alert.Rule) bool { return r.Roster == name })
}

// way is a way by its name; nil when there is none. The lock is held.
func (a *alerts) way(name string) *record.Way {
	if i := slices.IndexFunc(a.ways, func(w record.Way) bool { return w.Name == name }); i >= 0 {
		return &a.ways[i]
	}
	return nil
}

// How often is looked at what is wrong, and at what is to be sent.
const (
	between = time.Second // at most
	seldom  = time.Minute // at least
)

// keepAlerts looks what is wrong, whenever something has changed or time has passed that counts.
func (k *Keeper) keepAlerts() {
	listener := k.Listen()
	defer listener.Close()
	timer := time.NewTimer(between)
	defer timer.Stop()
	for {
		select {
		case <-k.ctx.Done():
			return
		case <-listener.Wake():
			listener.Take()
			if !rest(k.ctx, nil, between) { // much may happen at once
				return
			}
		case <-k.alerts.wake:
		case <-timer.C:
		}
		next := k.tellOf(k.ctx, time.Now())
		timer.Reset(min(seldom, max(between, time.Until(next))))
	}
}

// tellOf lets every alert see what is wrong, writes down what follows, and gives back when to look again.
func (k *Keeper) tellOf(ctx context.Context, now time.Time) (next time.Time) {
	next = now.Add(seldom)
	k.alerts.mu.Lock()
	rules := slices.Collect(maps.Values(k.alerts.rules))
	mutes := maps.Clone(k.alerts.mutes)
	k.alerts.mu.Unlock()
	if len(rules) == 0 {
		return next
	}
	all, unknown, err := k.troubles(ctx)
	if err != nil {
		if ctx.Err() == nil {
			k.log.Error("what is wrong can't be read from the record, so nobody is told of anything for now", "error", err)
		}
		return now.Add(between)
	}
	around := alert.Around{Now: now, Unknown: func(s string) bool { return unknown[s] }, Muted: func(s string) bool { return now.Before(mutes[s].Until) }}
	for _, r := range rules { // of an alert that is gone nothing is forgotten: it may come back with its file, and says then what is over
		was, err := k.alertState(ctx, r.Name)
		if err == nil {
			state := was.Clone()
			messages := r.Step(&state, around, all)
			if !reflect.DeepEqual(was, state) {
				err = k.store.PutAlert(ctx, r.Name, state, k.deliveries(r, messages))
			}
			if err == nil {
				k.alerts.mu.Lock()
				k.alerts.states[r.Name] = state
				k.alerts.mu.Unlock()
				if at := r.Next(&state, around); !at.IsZero() && at.Before(next) {
					next = at
				}
				if len(messages) > 0 {
					rouse(k.alerts.send)
					k.broker.send(Note{"alert", r.Name})
				}
			}
		}
		if err != nil && ctx.Err() == nil {
			k.log.Error("what an alert has found can't be written; it is found again", "alert", r.Name, "error", err)
			next = now.Add(between)
		}
	}
	return next
}

// alertState is what an alert remembers.
func (k *Keeper) alertState(ctx context.Context, name string) (alert.State, error) {
	k.alerts.mu.Lock()
	s, known := k.alerts.states[name]
	k.alerts.mu.Unlock()
	if known {
		return s, nil
	}
	return k.store.Alert(ctx, name)
}

// deliveries are messages, each to everybody that it goes to: a mail to each address, so that one that is refused keeps nobody else from it.
func (k *Keeper) deliveries(r alert.Rule, messages []alert.Message) (out []record.Delivery) {
	for _, m := range messages {
		for _, to := range r.To {
			d := record.Delivery{ID: m.ID + "." + to.Way, Alert: r.Name, Way: to.Way, Made: m.At, Next: m.At, DeliveryMore: record.DeliveryMore{Message: m}}
			if m.Kind != alert.Over {
				d.Until = m.At.Add(cmp.Or(2*r.Again, 7*24*time.Hour))
			}
			whom := k.whom(to)
			if len(whom) == 0 {
				out = append(out, d)
			}
			for i, address := range whom {
				one := d
				one.ID, one.To = fmt.Sprintf("%s.%d", d.ID, i+1), []string{address}
				out = append(out, one)
			}
		}
	}
	return out
}

// whom is whom a way leads to, as an alert names it, or else the way itself; nobody where it leads to one place.
func (k *Keeper) whom(to alert.To) []string {
	k.alerts.mu.Lock()
	defer k.alerts.mu.Unlock()
	if w := k.alerts.way(to.Way); len(to.Addresses) == 0 && w != nil {
		return w.To
	}
	return to.Addresses
}

// The tries of a delivery: each pause is twice the one before, for a day.
const (
	firstTry   = 10 * time.Second
	longestTry = 30 * time.Minute
	giveUp     = 24 * time.Hour
	keepSent   = 30 * 24 * time.Hour
)

// deliver sends what is to be sent. One way that does not answer keeps no other waiting: each is sent by on its own.
func (k *Keeper) deliver() {
	timer := time.NewTimer(between)
	defer timer.Stop()
	for {
		select {
		case <-k.ctx.Done():
			return
		case <-k.alerts.send:
		case <-timer.C:
		}
		due, err := k.store.Due(k.ctx, time.Now(), k.alerts.busyWays(), 100)
		byWay := map[string][]record.Delivery{}
		for _, d := range due {
			byWay[d.Way] = append(byWay[d.Way], d)
		}
		for way, some := range byWay {
			k.alerts.setBusy(way, true)
			k.spawn(func() { k.sendBy(way, some) })
		}
		next, err2 := k.store.NextDue(k.ctx, k.alerts.busyWays())
		err3 := k.store.ForgetDeliveries(k.ctx, time.Now().Add(-keepSent))
		if err := errors.Join(err, err2, err3); err != nil && k.ctx.Err() == nil {
			k.log.Error("what is to be sent can't be read", "error", err)
		}
		wait := seldom
		if !next.IsZero() {
			wait = min(seldom, max(between, time.Until(next)))
		}
		timer.Reset(wait)
	}
}

// sendBy tries deliveries by one way, one after the other.
func (k *Keeper) sendBy(way string, due []record.Delivery) {
	written := true
	for _, d := range due {
		written = k.sendAndWrite(d) && written
	}
	k.alerts.setBusy(way, false)
	if written { // what waited for one of them may follow; what can't be written is tried at the next look
		rouse(k.alerts.send)
	}
}

func (a *alerts) setBusy(way string, is bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if is {
		a.busy[way] = true
	} else {
		delete(a.busy, way)
	}
}

// busyWays are those that are sent by just now.
func (a *alerts) busyWays() []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return slices.Collect(maps.Keys(a.busy))
}

// sendAndWrite tries one delivery and writes down how it went; false when that could not be written.
func (k *Keeper) sendAndWrite(d record.Delivery) bool {
	k.alerts.mu.Lock()
	after, owed := k.alerts.owed[d.ID]
	k.alerts.mu.Unlock()
	if !owed {
		after = tried(d, k.sendOne(k.ctx, d), time.Now())
		if k.ctx.Err() == nil {
			k.metrics.sent.WithLabelValues(d.Way, went(after)).Inc()
		}
	}
	if k.ctx.Err() != nil { // the next life tries it again
		return false
	}
	err := k.store.Tried(k.ctx, after)
	k.alerts.mu.Lock()
	if err != nil {
		k.alerts.owed[d.ID] = after
	} else {
		delete(k.alerts.owed, d.ID)
	}
	k.alerts.mu.Unlock()
	if err != nil {
		k.log.Error("how a delivery went can't be written; it is written later", "delivery", d.ID, "error", err)
		return false
	}
	k.broker.send(Note{"alert", d.Alert})
	return true
}

// tried is a delivery after a try.
func tried(d record.Delivery, err error, now time.Time) record.Delivery {
	d.Tries++
	d.Next, d.Problem = time.Time{}, ""
	var final *notify.RefusedError
	switch {
	case err == nil:
		d.Done = now
	case errors.As(err, &final) || now.Sub(d.Made) >= giveUp:
		d.Problem = err.Error()
	default:
		d.Problem = err.Error()
		d.Next = now.Add(min(firstTry<<min(d.Tries-1, 10), longestTry))
	}
	return d
}

// went says how the last try of a delivery went.
func went(d record.Delivery) string {
	switch {
	case !d.Done.IsZero():
		return "delivered"
	case d.Next.IsZero():
		return "given up"
	}
	return "failed"
}

func (k *Keeper) sendOne(ctx context.Context, d record.Delivery) error {
	k.alerts.mu.Lock()
	w := k.alerts.way(d.Way)
	var way notify.Way
	console := ""
	if w != nil {
		way, console = wayOf(*w), w.Console
	}
	k.alerts.mu.Unlock()
	if w == nil {
		return fmt.Errorf("there is no way %s any more; add it again: vigila alert way add %s", d.Way, d.Way)
	}
	return way.Send(ctx, notify.Envelope{ID: d.ID, Message: d.Message, Console: console, Source: "/vigila/" + k.service, To: d.To, Until: d.Until})
}

func wayOf(w record.Way) notify.Way {
	return notify.Way{Name: w.Name, Kind: w.Kind, URL: w.URL, CA: w.CA, Secret: w.Secret, Host: w.Host, User: w.User, From: w.From, To: w.To, Clear: w.Clear}
}

// Alerts lists the alerts by name.
func (k *Keeper) Alerts() (out []Alert) {
	k.alerts.mu.Lock()
	defer k.alerts.mu.Unlock()
	for _, name := range slices.Sorted(maps.Keys(k.alerts.rules)) {
		a := Alert{Rule: k.alerts.rules[name]}
		for _, h := range k.alerts.states[name].Held {
			switch {
			case !h.Told.IsZero():
				a.Told++
			case h.Gone.IsZero():
				a.Waiting++
			}
		}
		for _, to := range a.To {
			if k.alerts.way(to.Way) == nil {
				a.Missing = append(a.Missing, to.Way)
			}
		}
		out = append(out, a)
	}
	return out
}

// AlertsOf names the alerts that tell somebody of a ward, of whatever topics.
func (k *Keeper) AlertsOf(v *standing.View) (names []string) {
	k.alerts.mu.Lock()
	defer k.alerts.mu.Unlock()
	of := v.Of()
	for name, r := range k.alerts.rules {
		if r.Wards.Hold(of.Ward, of.Owner, of.Cluster, of.Roster) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// MutedUntil is the mute of a ward, or of what else is named so; false when there is none that holds.
func (k *Keeper) MutedUntil(subject string) (record.Mute, bool) {
	k.alerts.mu.Lock()
	defer k.alerts.mu.Unlock()
	m, is := k.alerts.mutes[subject]
	return m, is && time.Now().Before(m.Until)
}

// Ways lists the ways by name.
func (k *Keeper) Ways() []record.Way {
	k.alerts.mu.Lock()
	defer k.alerts.mu.Unlock()
	return slices.Clone(k.alerts.ways)
}

// Deliveries is one page of what was sent and is to be, the newest first, and how many there are in all.
func (k *Keeper) Deliveries(ctx context.Context, search string, undelivered bool, limit, offset int) ([]record.Delivery, int, error) {
	return k.store.Deliveries(ctx, search, undelivered, limit, offset)
}

// Mutes lists what nobody is told of for a while, by subject.
func (k *Keeper) Mutes(ctx context.Context) ([]record.Mute, error) {
	return k.store.Mutes(ctx, time.Now())
}

// The wishes.
type (
	// AddWay adds a way, or changes one. What is secret and empty stays as it was.
	AddWay struct{ record.Way }
	// RemoveWay forgets a way; what is on it is not sent any more.
	RemoveWay struct{ Name string }
	// TryWay sends a message by a way, to say that it works.
	TryWay struct {
		Name  string
		To    []string
		alert string // of which it is tried; "" when it is tried by itself
	}
	// TryAlert sends a message by all ways of an alert, to say that they work.
	TryAlert struct{ Name string }
	// Mute lets nobody be told of a ward, or of what else a message names, until a time.
	Mute struct {
		Of, Why string
		Until   time.Time
	}
	// Unmute lets it be told of again.
	Unmute struct{ Of string }
)

func (w AddWay) Subject() Subject    { return Subject{"add", "way", w.Name} }
func (w RemoveWay) Subject() Subject { return Subject{"remove", "way", w.Name} }
func (w TryWay) Subject() Subject    { return Subject{"try", "way", w.Name} }
func (w TryAlert) Subject() Subject  { return Subject{"try", "alert", w.Name} }
func (w Mute) Subject() Subject      { return Subject{"mute", "alerts", w.Of} }
func (w Unmute) Subject() Subject    { return Subject{"unmute", "alerts", w.Of} }

func (w AddWay) do(ctx context.Context, k *Keeper, _ Actor) (record.Way, error) {
	x := w.Way
	if err := ward.Name(x.Name); err != nil {
		return x, fault(Invalid, "name: %v", err)
	}
	k.alerts.mu.Lock()
	old := k.alerts.way(x.Name)
	if old != nil && old.Kind == x.Kind {
		if x.URL == "" {
			x.URL = old.URL
		}
		if x.Secret == "" && x.URL == old.URL && x.Host == old.Host && x.User == old.User {
			x.Secret = old.Secret
		}
		x.Made = old.Made
	}
	k.alerts.mu.Unlock()
	if err := wayOf(x).Check(); err != nil {
		return x, fault(Invalid, "way %s: %v", x.Name, err)
	}
	if x.Made.IsZero() {
		x.Made = time.Now()
	}
	if err := k.store.PutWay(ctx, x); err != nil {
		return x, err
	}
	k.waysMoved(ctx)
	return x, nil
}

// waysMoved reads the ways anew, and lets rosters say which of them are missing.
func (k *Keeper) waysMoved(ctx context.Context) {
	ways, err := k.store.Ways(ctx)
	if err != nil {
		k.log.Error("the ways of alerts can't be read", "error", err)
		return
	}
	k.alerts.mu.Lock()
	k.alerts.ways = ways
	k.alerts.mu.Unlock()
	k.broker.send(Note{"alert", ""})
	k.nudgeRosters()
	rouse(k.alerts.send)
}

func (k *Keeper) wayNamed(name string) (record.Way, error) {
	k.alerts.mu.Lock()
	defer k.alerts.mu.Unlock()
	if w := k.alerts.way(name); w != nil {
		return *w, nil
	}
	var known []string
	for _, w := range k.alerts.ways {
		known = append(known, w.Name)
	}
	return record.Way{}, unknown("way", name, known, "vigila alert way add NAME --kind chat")
}

func (w RemoveWay) do(ctx context.Context, k *Keeper, _ Actor) (Nothing, error) {
	if _, err := k.wayNamed(w.Name); err != nil {
		return Nothing{}, err
	}
	if err := k.store.RemoveWay(ctx, w.Name); err != nil {
		return Nothing{}, err
	}
	k.waysMoved(ctx)
	return Nothing{}, nil
}

func (w TryWay) do(ctx context.Context, k *Keeper, by Actor) (Nothing, error) {
	x, err := k.wayNamed(w.Name)
	if err != nil {
		return Nothing{}, err
	}
	if err := wayOf(x).Leads(w.To); err != nil {
		return Nothing{}, fault(Invalid, "way %s: %v; to try it: vigila alert way try %s%s", w.Name, err, w.Name, map[bool]string{true: " --to ADDRESS"}[x.Kind == notify.Mail])
	}
	now := time.Now()
	what := ""
	if w.alert != "" {
		what = ", as alert " + w.alert + " does"
	}
	m := alert.Message{ID: fmt.Sprintf("try-%d", now.UnixMilli()), Alert: cmp.Or(w.alert, "try"), Kind: alert.Opened, Topic: "a trial", At: now, Items: []alert.Item{{Subject: "vigila", Text: fmt.Sprintf("%s tries whether messages get here by %s%s. Nothing is wrong.", by, w.Name, what), Link: "/"}}}
	err = wayOf(x).Send(ctx, notify.Envelope{ID: m.ID, Message: m, Console: x.Console, Source: "/vigila/" + k.service, To: w.To, Until: now.Add(time.Minute)})
	if err != nil {
		return Nothing{}, fault(Unreachable, "%v", err)
	}
	return Nothing{}, nil
}

// Tried is how a trial of one way went.
type Tried struct {
	Way     string
	To      []string
	Problem string // "" when it was taken
}

func (w TryAlert) do(ctx context.Context, k *Keeper, by Actor) ([]Tried, error) {
	k.alerts.mu.Lock()
	r, is := k.alerts.rules[w.Name]
	known := slices.Sorted(maps.Keys(k.alerts.rules))
	k.alerts.mu.Unlock()
	if !is {
		return nil, unknown("alert", w.Name, known, "declare one in a roster: vigila schema alert")
	}
	out := make([]Tried, len(r.To))
	var wg sync.WaitGroup
	for i, to := range r.To {
		wg.Go(func() {
			whom := k.whom(to)
			out[i] = Tried{Way: to.Way, To: whom}
			if _, err := (TryWay{Name: to.Way, To: whom, alert: w.Name}).do(ctx, k, by); err != nil {
				out[i].Problem = err.Error()
			}
		})
	}
	wg.Wait()
	return out, nil
}

func (w Mute) do(ctx context.Context, k *Keeper, by Actor) (record.Mute, error) {
	now := time.Now()
	m := record.Mute{Subject: strings.TrimSpace(w.Of), Until: w.Until, MuteMore: record.MuteMore{By: by.String(), Why: w.Why, At: now}}
	var err error
	if m.Subject, err = k.mutable(ctx, m.Subject); err != nil {
		return m, err
	}
	if !w.Until.After(now) || w.Until.Sub(now) > mostMuted {
		return m, fault(Invalid, "until when? A mute ends in the future, and within %d days", int(mostMuted.Hours()/24))
	}
	if err := k.store.PutMute(ctx, m); err != nil {
		return m, err
	}
	k.alerts.mu.Lock()
	k.alerts.mutes[m.Subject] = m
	k.alerts.mu.Unlock()
	k.mutesMoved(m.Subject)
	return m, nil
}

// mutable is the name of something that messages may be about; an error when there is no such thing.
func (k *Keeper) mutable(ctx context.Context, subject string) (string, error) {
	if kind, name, is := strings.Cut(subject, " "); is {
		names, err := k.namesOf(ctx, kind)
		if err == nil && !slices.Contains(names, name) {
			err = unknown(kind, name, names, "messages name what they are about")
		}
		return subject, err
	}
	p, err := k.one(subject)
	if err != nil {
		return "", err
	}
	return p.ID, nil
}

// namesOf lists what there is of a kind, as messages name what is no ward.
func (k *Keeper) namesOf(ctx context.Context, kind string) (names []string, err error) {
	switch kind + " " {
	case ofRepo:
		names = namesIn(k, k.repos)
	case ofRoster:
		names = namesIn(k, k.rosters)
	case ofCluster:
		names = namesIn(k, k.clusters)
	case ofLane:
		for _, l := range k.Lanes() {
			names = append(names, l.Name)
		}
	case ofFollow:
		for _, f := range k.Follows() {
			names = append(names, f.Name)
		}
	case ofStore:
		for _, l := range k.storeLoops() {
			names = append(names, l.conf.Name)
		}
	case ofToken:
		var all []record.Token
		all, err = k.store.Tokens(ctx)
		for _, t := range all {
			names = append(names, t.Name)
		}
	case ofProposal:
		var all []proposal.Proposal
		all, _, err = k.store.Proposals(ctx, record.FindProposals{Live: true})
		for _, p := range all {
			names = append(names, strconv.Itoa(p.Number))
		}
	default:
		err = fault(Invalid, "messages are about no %q; mute a ward as NAME@CLUSTER, or what else a message names, such as %q or %q", kind, ofProposal+"12", ofRepo+"NAME")
	}
	return names, err
}

func namesIn[T any](k *Keeper, in map[string]T) []string {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return slices.Sorted(maps.Keys(in))
}

// mostMuted is how long nobody may be told of something: what is muted for good is forgotten.
const mostMuted = 30 * 24 * time.Hour

func (w Unmute) do(ctx context.Context, k *Keeper, _ Actor) (Nothing, error) {
	k.alerts.mu.Lock()
	of := w.Of
	if _, is := k.alerts.mutes[of]; !is { // by the name of a ward, where one of its placements is muted
		var placed []string
		for subject := range k.alerts.mutes {
			if name, _ := ward.OfID(subject); name == of {
				placed = append(placed, subject)
			}
		}
		slices.Sort(placed)
		switch len(placed) {
		case 0:
		case 1:
			of = placed[0]
		default:
			k.alerts.mu.Unlock()
			return Nothing{}, fault(Invalid, "%s is muted as %s; name one of them", of, strings.Join(placed, " and "))
		}
	}
	_, is := k.alerts.mutes[of]
	known := slices.Sorted(maps.Keys(k.alerts.mutes))
	k.alerts.mu.Unlock()
	if !is {
		return Nothing{}, unknown("mute", w.Of, known, "vigila alert mute WARD --for 2h --why TEXT")
	}
	if err := k.store.RemoveMute(ctx, of); err != nil {
		return Nothing{}, err
	}
	k.alerts.mu.Lock()
	delete(k.alerts.mutes, of)
	k.alerts.mu.Unlock()
	rouse(k.alerts.wake)
	k.mutesMoved(of)
	return Nothing{}, nil
}

// mutesMoved lets those who look at what was muted, or at all that is, read it again.
func (k *Keeper) mutesMoved(subject string) {
	k.broker.send(Note{"alert", ""})
	if !strings.Contains(subject, " ") {
		k.broker.send(Note{"ward", subject})
	}
}
