package keeper

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"

	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/core/kit"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/proposal"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/schema"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/repo"
)

// Kit is a kit that the files of a roster declare.
type Kit struct {
	*kit.Kit
	Roster, Repo, Ref string // whose files declare it, and where they are
}

// Target is where its files go: a repository, and a branch of it.
func (x Kit) Target() (repository, ref string) {
	repository = cmp.Or(x.Makes.Repo, x.Repo)
	ref = x.Makes.Ref
	if ref == "" && repository == x.Repo {
		ref = x.Ref
	}
	return repository, cmp.Or(ref, "main")
}

// Place is a list of components, as the files of a roster have it.
type Place struct {
	kit.Components
	Roster, Repo, Ref, RosterPath string
}

// kitted is what a roster's files say of kits.
type kitted struct {
	kits   []Kit
	places []Place
}

// setKits takes the kits that a roster's files declare.
func (l *rosterLoop) setKits(in *roster.Files) (problems []roster.Problem) {
	conf := l.record()
	var now kitted
	elsewhere := map[string]string{}
	for _, x := range l.k.kitted().kits {
		if x.Roster != conf.Name {
			elsewhere[x.Name] = x.Roster
		}
	}
	for _, x := range in.Kits {
		file := path.Join(x.Dir, kit.FileName)
		no := func(format string, args ...any) {
			problems = append(problems, roster.Problem{File: file, Line: x.Line, Text: fmt.Sprintf(format, args...)})
		}
		first := slices.IndexFunc(now.kits, func(o Kit) bool { return o.Name == x.Name })
		switch {
		case first >= 0:
			no("kit %s is declared twice; first at %s:%d", x.Name, path.Join(now.kits[first].Dir, kit.FileName), now.kits[first].Line)
		case elsewhere[x.Name] != "":
			no("kit %s is declared by roster %s already", x.Name, elsewhere[x.Name])
		case conf.Limits.Any() && x.Makes.Repo != "" && x.Makes.Repo != conf.Repo && !slices.Contains(conf.Limits.Repos, x.Makes.Repo):
			no("it is more than its roster may: roster %s has limits, so its kits make files in %s alone, not in %s", conf.Name, conf.Repo, x.Makes.Repo)
		default:
			now.kits = append(now.kits, Kit{x, conf.Name, conf.Repo, conf.Ref})
		}
	}
	for _, c := range in.Places {
		now.places = append(now.places, Place{c, conf.Name, conf.Repo, conf.Ref, conf.Path})
	}
	l.mu.Lock()
	l.kitted = now
	l.mu.Unlock()
	return problems
}

func (k *Keeper) kitted() (out kitted) {
	for _, l := range k.rosterLoops() {
		l.mu.Lock()
		out.kits, out.places = append(out.kits, l.kitted.kits...), append(out.places, l.kitted.places...)
		l.mu.Unlock()
	}
	slices.SortFunc(out.kits, func(a, b Kit) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(a.Roster, b.Roster))
	})
	slices.SortFunc(out.places, func(a, b Place) int { return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(a.File, b.File)) })
	return out
}

// Kits lists every kit, by name; the one that Vigila brings along last.
func (k *Keeper) Kits() []Kit { return append(k.kitted().kits, k.chartKits()...) }

// SeenKits lists the kits that somebody sees: those that they may use.
func (k *Keeper) SeenKits(w Who) []Kit {
	return slices.DeleteFunc(k.Kits(), func(x Kit) bool { return !w.Rights.Sees(grant.Thing{Kit: x.Name}) })
}

// SeenKit is one of them. Errors are a *Fault.
func (k *Keeper) SeenKit(w Who, name string) (Kit, error) {
	for _, x := range k.SeenKits(w) {
		if x.Name == name {
			return x, nil
		}
	}
	return Kit{}, fault(NotFound, "there is no kit %s; see vigila kit list", name)
}

func (k *Keeper) kit(name string) (Kit, error) {
	for _, x := range k.Kits() {
		if x.Name == name {
			return x, nil
		}
	}
	return Kit{}, fault(NotFound, "there is no kit %s; see vigila kit list", name)
}

// Made is something that a kit made.
type Made struct {
	kit.Made
	Repo, Ref string
	Other     string // "" where the kit is as it was, or why it is not: the kit is another since, or gone
	Wards     []string
}

// makings are the things that kits have made, as they were read at a commit.
type makings struct {
	mu   *sync.Mutex
	read map[[2]string]readMakings // by repository and branch
}

type readMakings struct {
	at, kits string // the commit, and the kits that there were: whose wards a thing has follows from both
	all      []Made
}

func newMakings() makings { return makings{&sync.Mutex{}, map[[2]string]readMakings{}} }

// Makings lists what kits have made, by repository and path; what can't be read is told beside it.
func (k *Keeper) Makings(ctx context.Context, w Who) ([]Made, error) {
	var out []Made
	var errs []error
	seen := map[[2]string]bool{}
	var places [][2]string
	for _, x := range k.kitted().kits {
		if repository, ref := x.Target(); x.Switch == nil {
			places = append(places, [2]string{repository, ref})
		}
	}
	for _, r := range k.chartRosters() {
		places = append(places, [2]string{r.Repo, r.Ref})
	}
	for _, at := range places {
		if seen[at] {
			continue
		}
		seen[at] = true
		repository, ref := at[0], at[1]
		all, err := k.makingsIn(ctx, repository, ref)
		errs = append(errs, err)
		out = append(out, all...)
	}
	out = slices.DeleteFunc(out, func(m Made) bool { return !k.seesMade(w, m) })
	for i := range out {
		out[i].Other = k.other(out[i])
	}
	slices.SortFunc(out, func(a, b Made) int {
		return cmp.Or(strings.Compare(a.Repo, b.Repo), strings.Compare(a.Path, b.Path))
	})
	return out, errors.Join(errs...)
}

// seesMade tells whether somebody sees what a kit made: all of its wards, or one that it is not for.
func (k *Keeper) seesMade(w Who, m Made) bool {
	if w.Rights.All() {
		return true
	}
	for _, name := range m.Wards {
		all := k.named(name)
		if len(all) == 0 || slices.ContainsFunc(all, func(p *placement) bool { return !w.Sees(p.View()) }) {
			return false
		}
	}
	return len(m.Wards) > 0 && w.Rights.Sees(grant.Thing{Kit: m.Kit})
}

func (k *Keeper) makingsIn(ctx context.Context, repository, ref string) ([]Made, error) {
	mirror, err := k.gitOf(repository)
	if err != nil {
		return nil, err
	}
	head, err := mirror.Resolve(ctx, ref)
	if errors.Is(err, repo.ErrEmpty) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	key := [2]string{repository, ref}
	var kits strings.Builder
	for _, x := range k.kitted().kits {
		fmt.Fprintln(&kits, x.Name, x.Repo, x.Dir)
	}
	k.makings.mu.Lock()
	have := k.makings.read[key]
	k.makings.mu.Unlock()
	if have.at != head.ID || have.kits != kits.String() {
		files, err := mirror.At(head.ID).Files("", func(name string) bool { return path.Base(name) == kit.MadeName })
		if err != nil {
			return nil, err
		}
		have = readMakings{at: head.ID, kits: kits.String()}
		for _, f := range files {
			m, err := kit.ParseMade(f.Path, f.Data)
			if err != nil { // it is told, and opens no form
				have.all = append(have.all, Made{Made: kit.Made{Path: path.Dir(f.Path)}, Repo: repository, Ref: ref, Other: err.Error()})
				continue
			}
			one := Made{Made: m, Repo: repository, Ref: ref}
			if x, err := k.kit(m.Kit); err == nil {
				if thing, err := k.asMade(ctx, x, m); err == nil {
					for _, w := range wardsIn(repository, ref, thing.Files) {
						one.Wards = append(one.Wards, w.Name)
					}
				}
			}
			have.all = append(have.all, one)
		}
		k.makings.mu.Lock()
		k.makings.read[key] = have
		k.makings.mu.Unlock()
	}
	return slices.Clone(have.all), nil
}

// other says why a kit would not make a thing as it did.
func (k *Keeper) other(m Made) string {
	if m.Kit == "" {
		return m.Other
	}
	if m.Kit == kit.FromChart { // which version it takes is a value
		return ""
	}
	x, err := k.kit(m.Kit)
	if err != nil {
		return "there is no kit " + m.Kit + " any more"
	}
	mirror, err := k.gitOf(x.Repo)
	if err != nil {
		return err.Error()
	}
	head, err := mirror.Resolve(k.ctx, x.Ref) // a roster may follow a range of tags
	if err != nil {
		return "kit " + m.Kit + " can't be read: " + err.Error()
	}
	now, err := mirror.At(head.ID).Hash(x.Dir)
	if err != nil {
		return err.Error()
	}
	then, err := mirror.At(m.At).Hash(x.Dir)
	if err != nil || then == "" {
		return "the kit that made it is not known any more; make it again by its form"
	}
	if now != then {
		return "the kit is another since"
	}
	return ""
}

// wardsIn are the wards that some files declare; what can't be read declares none.
func wardsIn(repository, ref string, files []kit.File) (out []ward.Ward) {
	for _, f := range files {
		if ward.IsRoster(f.Data) {
			if d, err := ward.ParseDeclared(ward.From{Repo: repository, Ref: ref}, f.Path, f.Data); err == nil {
				out = append(out, d.Wards...)
			}
		}
	}
	return out
}

// kitAt is a kit as it was at a commit, with its files.
func (k *Keeper) kitAt(x Kit, commit string) (*kit.Kit, []kit.File, error) {
	mirror, err := k.gitOf(x.Repo)
	if err != nil {
		return nil, nil, err
	}
	read, err := mirror.At(commit).Files(x.Dir, func(string) bool { return true })
	if err != nil {
		return nil, nil, fmt.Errorf("kit %s can't be read at %.7s: %w", x.Name, commit, err)
	}
	files := make([]kit.File, len(read))
	var own *kit.Kit
	for i, f := range read {
		files[i] = kit.File{Path: f.Path, Data: f.Data}
		if f.Path == path.Join(x.Dir, kit.FileName) {
			if own, err = kit.Parse(f.Path, f.Data); err != nil {
				return nil, nil, err
			}
		}
	}
	if own == nil {
		return nil, nil, fmt.Errorf("there is no kit in %s at %.7s", x.Dir, commit)
	}
	return own, files, own.Probe(files)
}

// asMade is what a kit made of a thing when it did.
func (k *Keeper) asMade(ctx context.Context, x Kit, m kit.Made) (*kit.Thing, error) {
	var own *kit.Kit
	var files []kit.File
	var err error
	if m.Kit == kit.FromChart {
		x, files, _, err = k.chartKit(ctx, m.With)
		own = x.Kit
	} else {
		own, files, err = k.kitAt(x, m.At)
	}
	if err != nil {
		return nil, err
	}
	values, _, err := own.Complete(m.With)
	if err != nil {
		return nil, err
	}
	return own.Make(values, m.With, files, m.At)
}

// KitWish is what somebody wants of a kit.
type KitWish struct {
	Kit    string
	Made   string // the path of a thing that is to be another; "" for a new one
	Place  string // where a component is switched; "" for a kit that makes files
	Use    bool   // on, or off
	Values map[string]any
}

// String says what is wanted, in a line.
func (w KitWish) String() string {
	switch {
	case w.Place != "" && w.Use:
		return fmt.Sprintf("Switch %s on in %s", w.Kit, w.Place)
	case w.Place != "":
		return fmt.Sprintf("Switch %s off in %s", w.Kit, w.Place)
	case w.Made != "":
		return fmt.Sprintf("Change %s, by kit %s", w.Made, w.Kit)
	}
	return ""
}

// KitTry is what a wish comes to, before anything is written.
type KitTry struct {
	Values    map[string]any // with defaults
	Mistakes  []schema.Mistake
	Path      string // of the thing, or of the file that switches
	Links     map[string]string
	Conflicts []string // files that were changed by hand in the same places
	Effect    *Effect  // nil where there are mistakes or conflicts
	Wards     []ward.Ward
	plan      *kitPlan
}

// kitPlan is a wish worked out.
type kitPlan struct {
	kit        Kit
	mirror     *repo.Mirror
	ref        string
	base, head string // commits; the same where nothing would be another
	title      string
}

// tryKit works out what a wish comes to, but for its effect.
func (k *Keeper) tryKit(ctx context.Context, w KitWish) (*KitTry, error) {
	x, now, files, at, wrong, err := k.kitFor(ctx, w)
	if err != nil {
		return nil, err
	}
	switch {
	case x.Switch != nil && w.Place == "":
		return nil, fault(Invalid, "kit %s is a component: say where it is to be on: vigila kit on %s CLUSTER", w.Kit, w.Kit)
	case x.Switch == nil && w.Place != "":
		return nil, fault(Invalid, "kit %s makes files, and can't be switched: vigila kit new %s", w.Kit, w.Kit)
	}
	out := &KitTry{Links: map[string]string{}}
	if out.Values, out.Mistakes, err = now.Complete(w.Values); err != nil {
		return nil, fault(Invalid, "%v", err)
	}
	out.Mistakes = append(out.Mistakes, wrong...)
	out.Mistakes = append(out.Mistakes, k.clusterMistakes(now, now.Parameters, out.Values, nil)...)
	plan := &kitPlan{kit: x, title: w.String()}
	out.plan = plan
	repository, ref := x.Target()
	if x.Switch != nil {
		repository, ref = x.Repo, x.Ref
	}
	if plan.mirror, err = k.gitOf(repository); err != nil {
		return nil, err
	}
	plan.ref = ref
	base, err := plan.mirror.Resolve(ctx, ref)
	if err != nil {
		return nil, fault(Invalid, "%v", err)
	}
	plan.base, plan.head = base.ID, base.ID
	if x.Switch != nil {
		return out, k.turned(ctx, w, now, out)
	}
	if len(out.Mistakes) > 0 {
		return out, nil
	}
	thing, err := now.Make(out.Values, w.Values, files, at)
	if err != nil {
		return nil, fault(Invalid, "%v", err)
	}
	out.Path, out.Links, out.Wards = thing.Path, thing.Links, wardsIn(repository, ref, thing.Files)
	if plan.title == "" {
		plan.title = fmt.Sprintf("Add %s, by kit %s", thing.Path, x.Name)
	}
	return out, k.laid(ctx, w, thing, out)
}

// laid lays what is made over what there is.
func (k *Keeper) laid(ctx context.Context, w KitWish, thing *kit.Thing, out *KitTry) error {
	plan := out.plan
	var before []repo.File
	tree := plan.mirror.At(plan.base)
	old := map[string]bool{}
	if w.Made != "" {
		was, err := k.recorded(tree, w)
		if err != nil {
			return err
		}
		made, err := k.asMade(ctx, plan.kit, was)
		if err != nil {
			return fault(Conflict, "%s was made by kit %s as it was at %.7s, and that can't be told any more: %v", w.Made, w.Kit, was.At, err)
		}
		for _, f := range made.Files {
			old[f.Path] = true
			before = append(before, repo.File{Path: f.Path, Data: f.Data})
		}
		repository, ref := plan.kit.Target()
		out.Wards = append(out.Wards, wardsIn(repository, ref, made.Files)...) // both are touched
	}
	after := make([]repo.File, len(thing.Files))
	var taken []string
	for i, f := range thing.Files {
		after[i] = repo.File{Path: f.Path, Data: f.Data}
		if old[f.Path] {
			continue
		}
		if _, err := tree.Read(f.Path); err == nil {
			taken = append(taken, f.Path)
		} else if !errors.Is(err, repo.ErrNoPath) {
			return err
		}
	}
	if len(taken) > 0 {
		out.Mistakes = append(out.Mistakes, schema.Mistake{Text: fmt.Sprintf("%s is there already, and this did not make it; choose another name", strings.Join(taken, ", "))})
		return nil
	}
	t, err := plan.mirror.Renewed(ctx, plan.base, before, after)
	if err != nil {
		return err
	}
	if out.Conflicts = t.Conflicts; len(t.Conflicts) > 0 || t.Same {
		return nil
	}
	plan.head, err = plan.mirror.Would(ctx, t.Tree, plan.base)
	return err
}

// recorded is the record of a thing that is to be another.
func (k *Keeper) recorded(tree *repo.Tree, w KitWish) (kit.Made, error) {
	file := path.Join(w.Made, kit.MadeName)
	data, err := tree.Read(file)
	if errors.Is(err, repo.ErrNoPath) {
		return kit.Made{}, fault(NotFound, "no kit has made %s; see vigila kit made", w.Made)
	}
	if err != nil {
		return kit.Made{}, err
	}
	was, err := kit.ParseMade(file, data)
	if err != nil {
		return kit.Made{}, fault(Invalid, "%v", err)
	}
	if was.Kit != w.Kit {
		return kit.Made{}, fault(Invalid, "%s was made by kit %s, not by %s", w.Made, was.Kit, w.Kit)
	}
	return was, nil
}

// turned works out the file that switches a component.
func (k *Keeper) turned(ctx context.Context, w KitWish, x *kit.Kit, out *KitTry) error {
	plan := out.plan
	if !w.Use {
		out.Mistakes = nil // what is off needs no options
	}
	place, labels := k.place(plan.kit, w.Place)
	if place.File == "" && labels == nil {
		return fault(NotFound, "%s is neither a cluster nor an environment of a components file; see vigila cluster list", w.Place)
	}
	if labels != nil && w.Use && !x.May(labels) {
		return fault(Invalid, "kit %s is for clusters with %s, and %s has not those labels", x.Name, x.For(), w.Place)
	}
	if len(out.Mistakes) > 0 {
		return nil
	}
	l := k.rosterLoopOf(plan.kit.Roster)
	if l == nil {
		return fault(NotFound, "there is no roster %s any more", plan.kit.Roster)
	}
	file := place.File
	if file == "" {
		file = kit.PathOf(l.record().Path, w.Place)
	}
	tree := plan.mirror.At(plan.base)
	data, err := tree.Read(file)
	if errors.Is(err, repo.ErrNoPath) {
		data, err = nil, nil
	}
	if err != nil {
		return err
	}
	text, err := kit.Turn(file, data, w.Place, x.Name, w.Use, w.Values)
	if err != nil {
		return fault(Invalid, "%v", err)
	}
	out.Path = file
	kits := []*kit.Kit{}
	for _, one := range k.kitted().kits {
		if one.Roster == plan.kit.Roster {
			kits = append(kits, one.Kit)
		}
	}
	all, err := kit.ParseComponents(file, text)
	if err != nil {
		return fault(Invalid, "%v", err)
	}
	for _, c := range all {
		if c.Name != w.Place {
			continue
		}
		made, err := c.Wards(kits)
		var at *object.SyntaxError
		if errors.As(err, &at) {
			out.Mistakes = append(out.Mistakes, schema.Mistake{Text: at.Text})
			return nil
		}
		for _, m := range made {
			if d, err := ward.ParseDeclared(ward.From{Repo: plan.kit.Repo, Ref: plan.kit.Ref}, file, m.Text); err == nil && m.Name == kit.WardName(x.Name, c.Name) {
				out.Wards = append(out.Wards, d.Wards...)
			}
		}
	}
	if !w.Use { // it ends what there is
		for _, p := range k.named(kit.WardName(x.Name, w.Place)) {
			out.Wards = append(out.Wards, *p.Ward)
		}
	}
	plan.head, err = plan.mirror.With(ctx, plan.base, repo.Draft{Files: []repo.File{{Path: file, Data: text}}, Subject: plan.title})
	return err
}

func (k *Keeper) rosterLoopOf(name string) *rosterLoop {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.rosters[name]
}

// place is the list of components of a place in the roster of a kit, and the labels of the cluster of that name; nil when there is none.
func (k *Keeper) place(x Kit, name string) (Place, map[string]string) {
	var out Place
	for _, p := range k.kitted().places {
		if p.Roster == x.Roster && p.Name == name {
			out = p
		}
	}
	if out.Clusters != nil { // an environment
		return out, out.Clusters
	}
	k.mu.RLock()
	defer k.mu.RUnlock()
	c, known := k.clusters[name]
	if !known {
		return out, nil
	}
	if c.conf.Labels == nil {
		return out, map[string]string{}
	}
	return out, c.conf.Labels
}

// clusterMistakes holds what is chosen as a cluster against the clusters that there are, and that the kit is for.
func (k *Keeper) clusterMistakes(x *kit.Kit, parameters, values map[string]any, at []string) (out []schema.Mistake) {
	props, _ := parameters["properties"].(map[string]any)
	for name, v := range values {
		p, _ := props[name].(map[string]any)
		here := append(slices.Clone(at), name)
		if inner, is := v.(map[string]any); is {
			out = append(out, k.clusterMistakes(x, p, inner, here)...)
			continue
		}
		cluster, text := v.(string)
		if !text || p["format"] != kit.ClusterFormat {
			continue
		}
		k.mu.RLock()
		c, known := k.clusters[cluster]
		var labels map[string]string
		if known {
			labels = c.conf.Labels
		}
		k.mu.RUnlock()
		switch {
		case !known:
			out = append(out, schema.Mistake{At: here, Text: fmt.Sprintf(": there is no cluster %s; see vigila cluster list", cluster)})
		case !x.May(labels):
			out = append(out, schema.Mistake{At: here, Text: fmt.Sprintf(": the kit is for clusters with %s, and %s has not those labels", x.For(), cluster)})
		}
	}
	return out
}

// Choices lists the clusters that a kit is for.
func (k *Keeper) Choices(x Kit) []string {
	var out []string
	for name, labels := range k.known(nil).Clusters {
		if x.May(labels) {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// kitNeeds are what a wish does to what: the wards that it makes, changes or ends.
func (k *Keeper) kitNeeds(w KitWish, t *KitTry) (out []need) {
	for _, x := range t.Wards {
		for _, c := range k.reaches(x) {
			out = append(out, need{verb: grant.Propose, thing: grant.Thing{Kit: w.Kit, Ward: x.Name, Owner: x.Owner, Cluster: c, Roster: t.plan.kit.Roster}})
		}
	}
	if len(out) == 0 {
		out = append(out, need{verb: grant.Propose, thing: grant.Thing{Kit: w.Kit}})
	}
	return out
}

// TryKit works out what a wish comes to, with its effect on the clusters. Errors are a *Fault.
func (k *Keeper) TryKit(ctx context.Context, who Who, w KitWish) (*KitTry, error) {
	if _, err := k.SeenKit(who, w.Kit); err != nil {
		return nil, err
	}
	if err := k.changeSeen(ctx, who, w); err != nil {
		return nil, err
	}
	t, err := k.tryKit(ctx, w)
	if err != nil || t.plan.head == t.plan.base {
		return t, err
	}
	if !who.Rights.All() {
		for _, x := range k.kitNeeds(w, t) {
			if a := who.Rights.May(x.verb, x.thing); !a.May {
				t.Mistakes = append(t.Mistakes, schema.Mistake{Text: fmt.Sprintf("you may not have that: %s", a.Why)})
				return t, nil
			}
		}
	}
	ctx, cancel := context.WithTimeout(ctx, effectTimeout)
	defer cancel()
	if t.Effect, err = k.effect(ctx, t.plan.mirror, t.plan.ref, "", t.plan.base, t.plan.head); err != nil {
		return nil, err
	}
	if !who.Rights.All() {
		t.Effect.Same, t.Effect.Problems = 0, nil
		own := map[string]bool{}
		for _, x := range t.Wards {
			own[x.Name] = true
		}
		t.Effect.Wards = slices.DeleteFunc(t.Effect.Wards, func(e WardEffect) bool { name, _ := ward.OfID(e.ID); return !own[name] })
	}
	return t, nil
}

// changeSeen tells somebody of a thing that they don't see what is said of one that is not there.
func (k *Keeper) changeSeen(ctx context.Context, w Who, wish KitWish) error {
	if wish.Made == "" || w.Rights.All() {
		return nil
	}
	all, _ := k.Makings(ctx, w) // what can't be read is not seen
	if slices.ContainsFunc(all, func(m Made) bool { return m.Path == wish.Made }) {
		return nil
	}
	return fault(NotFound, "no kit has made %s; see vigila kit made", wish.Made)
}

// ProposeKit opens a proposal with what a wish comes to.
type ProposeKit struct {
	KitWish
	Title, Why string
}

// Subject says what is asked for.
func (w ProposeKit) Subject() Subject {
	return Subject{"propose by", "kit", w.Kit}
}

func (w ProposeKit) needs(k *Keeper) []need {
	t, err := k.tryKit(k.ctx, w.KitWish)
	if err != nil {
		return []need{{verb: grant.Propose, thing: grant.Thing{Kit: w.Kit}}} // what is wrong with it is told by what does it
	}
	return k.kitNeeds(w.KitWish, t)
}

func (w ProposeKit) do(ctx context.Context, k *Keeper, by Actor) (*proposal.Proposal, error) {
	for try := 0; ; try++ {
		p, err := k.proposeKit(ctx, w, by)
		if errors.Is(err, errChanged) && try < 3 {
			continue
		}
		return p, err
	}
}

func (k *Keeper) proposeKit(ctx context.Context, w ProposeKit, by Actor) (*proposal.Proposal, error) {
	x, err := k.kit(w.Kit)
	if err != nil {
		return nil, err
	}
	repository, _ := x.Target()
	if l, err := k.source(repository); err == nil {
		_ = l.Look(ctx) // on top of the newest commit; what is wrong is told below
	}
	t, err := k.tryKit(ctx, w.KitWish)
	if err != nil {
		return nil, err
	}
	if by.Rights != nil { // it may be another since it was asked
		if err := k.changeSeen(ctx, Who{Name: by.Name, Rights: *by.Rights}, w.KitWish); err != nil {
			return nil, err
		}
		for _, x := range k.kitNeeds(w.KitWish, t) {
			if a := by.Rights.May(x.verb, x.thing); !a.May {
				return nil, fault(Denied, "%s may not %s by kit %s: %s", by.Name, x.verb, w.Kit, a.Why)
			}
		}
	}
	switch {
	case len(t.Mistakes) > 0:
		return nil, fault(Invalid, "%s", mistakes(t.Mistakes))
	case len(t.Conflicts) > 0:
		return nil, fault(Conflict, "%s was changed by hand since the kit made it, in the same places that are to be another: %s. Change it by hand there, and ask again", cmp.Or(w.Made, t.Path), strings.Join(t.Conflicts, ", "))
	case t.plan.head == t.plan.base:
		return nil, fault(Conflict, "%s says so already; there is nothing to propose", t.plan.ref)
	}
	return k.proposePlan(ctx, w, t, by)
}

func mistakes(all []schema.Mistake) string {
	var out []string
	for _, m := range all {
		out = append(out, strings.TrimPrefix(strings.Join(m.At, ".")+m.Text, ": "))
	}
	return strings.Join(out, "; ")
}

func (k *Keeper) proposePlan(ctx context.Context, w ProposeKit, t *KitTry, by Actor) (*proposal.Proposal, error) {
	plan := t.plan
	changes, err := plan.mirror.Differs(plan.base, plan.head)
	if err != nil {
		return nil, err
	}
	d := draft{Leaves: map[string]proposal.Leaf{}, Trailers: []string{"Kit: " + w.Kit}}
	at := plan.mirror.At(plan.head)
	for _, c := range changes {
		if c.New.ID == "" {
			d.Leaves[c.Path] = proposal.Leaf{}
			continue
		}
		data, err := at.Read(c.Path)
		if err != nil {
			return nil, err
		}
		d.Files = append(d.Files, repo.File{Path: c.Path, Data: data})
	}
	of := cmp.Or(w.Made, t.Path)
	if w.Place != "" {
		of += " " + w.Kit
	}
	p, err := k.propose(ctx, want{repo: plan.mirror.Name(), base: plan.ref, by: by.String(), author: by.approver(), title: cut(cmp.Or(strings.TrimSpace(w.Title), plan.title)), why: w.Why,
		origin: proposal.Origin{Kind: proposal.Kit, Of: of, Want: object.Hash([]any{plan.base, w.Values, w.Use})}, draft: d,
		still: func(ctx context.Context) error {
			now, err := plan.mirror.Resolve(ctx, plan.ref)
			if err == nil && now.ID != plan.base {
				err = errChanged
			}
			return err
		}})
	return p, err
}

// Renewal is what became of a thing that a newer kit was offered to.
type Renewal struct {
	Made     string
	Proposal int
	Says     string // why there is none
}

// RenewKit offers what a kit makes by now to what it made before: a proposal for each thing that would be another.
type RenewKit struct {
	Kit  string
	Made []string // these alone; all when empty
}

// Subject says what is asked for.
func (w RenewKit) Subject() Subject { return Subject{"renew what was made by", "kit", w.Kit} }

func (w RenewKit) do(ctx context.Context, k *Keeper, by Actor) ([]Renewal, error) {
	if _, err := k.kit(w.Kit); err != nil {
		return nil, err
	}
	all, err := k.Makings(ctx, Who{Rights: grant.Rights{Role: grant.Admin}})
	if err != nil {
		return nil, fault(Invalid, "%v", err)
	}
	var out []Renewal
	for _, m := range all {
		if m.Kit != w.Kit || len(w.Made) > 0 && !slices.Contains(w.Made, m.Path) {
			continue
		}
		one := Renewal{Made: m.Path}
		if m.Other == "" {
			one.Says = "the kit is as it was"
			out = append(out, one)
			continue
		}
		p, err := ProposeKit{KitWish: KitWish{Kit: w.Kit, Made: m.Path, Values: m.With}, Title: fmt.Sprintf("Renew %s, as kit %s makes it by now", m.Path, w.Kit)}.do(ctx, k, by)
		if err != nil {
			one.Says = err.Error()
		} else {
			one.Proposal = p.Number
		}
		out = append(out, one)
	}
	for _, name := range w.Made {
		if !slices.ContainsFunc(out, func(r Renewal) bool { return r.Made == name }) {
			out = append(out, Renewal{Made: name, Says: "kit " + w.Kit + " has made no such thing"})
		}
	}
	return out, nil
}

// Component is a kit that can be switched, as it stands in a place.
type Component struct {
	Kit     Kit
	Place   string
	Where   []string // clusters
	Listed  bool     // the place's file says something of it
	On      bool
	With    map[string]any
	Ward    string // without its cluster
	File    string // that says so
	Problem string
}

// Components lists the components that can be switched in the clusters that somebody sees, by place and name.
func (k *Keeper) Components(w Who) (out []Component) {
	all := k.kitted()
	labels := k.known(nil).Clusters
	places := slices.Clone(all.places)
	for name := range labels {
		for _, x := range all.kits {
			if x.Switch != nil && !slices.ContainsFunc(places, func(p Place) bool { return p.Name == name && p.Roster == x.Roster }) {
				places = append(places, Place{Components: kit.Components{Name: name}, Roster: x.Roster})
			}
		}
	}
	for _, p := range places {
		where := []string{p.Name}
		if p.Clusters != nil {
			where = k.matching(ward.Ward{Into: ward.Into{Clusters: p.Clusters}})
		}
		for _, x := range all.kits {
			i := slices.IndexFunc(p.All, func(c kit.Component) bool { return c.Kit == x.Name })
			fits := p.Clusters != nil || x.May(labels[p.Name])
			if x.Switch == nil || x.Roster != p.Roster || i < 0 && !fits {
				continue
			}
			c := Component{Kit: x, Place: p.Name, Where: where, File: p.File, Ward: kit.WardName(x.Name, p.Name)}
			if i >= 0 {
				c.Listed, c.On, c.With = true, p.All[i].On, p.All[i].With
			}
			if c.On && !fits {
				c.Problem = "the kit is for clusters with " + x.For()
			}
			if k.seesComponent(w, c) {
				out = append(out, c)
			}
		}
	}
	slices.SortFunc(out, func(a, b Component) int {
		return cmp.Or(strings.Compare(a.Place, b.Place), strings.Compare(a.Kit.Name, b.Kit.Name))
	})
	return out
}

func (k *Keeper) seesComponent(w Who, c Component) bool {
	return w.Rights.All() || slices.ContainsFunc(c.Where, func(cluster string) bool {
		return w.Rights.Sees(grant.Thing{Kit: c.Kit.Name, Ward: c.Ward, Owner: c.Kit.Owner, Cluster: cluster, Roster: c.Kit.Roster})
	})
}
