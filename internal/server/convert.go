package server

import (
	"time"
	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper"
)

func wardOf(v *standing.View) Ward {
	w := Ward{
		Id: v.ID, Name: v.Ward.Name, Cluster: v.Cluster, About: v.Ward.About, Owner: v.Ward.Owner, Repo: v.Ward.From.Repo, Ref: v.Ward.From.Ref, Tag: v.Tag,
		Path: v.Ward.From.Path, Roster: v.Roster, Source: v.Source, Form: WardForm(v.Form), Chart: v.Chart, Notes: v.Notes, Namespace: v.Ward.Into.Namespace, Standing: Standing(v.Standing), Health: Health(v.Health.Word), HealthReason: v.Health.Reason,
		Since: v.Since, Says: v.Says, Todo: v.Todo, NeedsYou: v.NeedsYou, Worst: WardWorst(v.Tone), Pending: v.Pending, Drifted: v.Drifted,
		DriftedFields: v.DriftedFields, ContestedFields: v.Contested, ObjectCount: v.Count, Repository: asOf(v.Repository), Live: asOf(v.Live),
		Revision: revisionOf(v.Revision), Applied: revisionOf(v.Applied), Rejected: v.Rejected, AutoSync: v.Ward.Keep.Sync == ward.Auto,
		RestoreDrift: v.Ward.Keep.Drift == ward.Restore, WaitsFor: v.WaitsFor, Watch: []Stretch{}, Runs: []PastRun{}, Links: v.Ward.Links,
		AddedFields: v.Additions, PendingTasks: v.Tasks, Loudest: v.Loudest, Rejections: len(v.Rejections), KeepAdditions: WardKeepAdditions(v.Ward.Keep.Additions), Prune: v.Ward.Keep.Prune,
		SettleSeconds: int(v.Ward.Settle.Within.Seconds()), SettleOtherwise: WardSettleOtherwise(v.Ward.Settle.Otherwise), After: v.Ward.After,
		Guards: guardsOf(v.Guards), BrokenRules: v.Findings,
	}
	if v.Hold != nil {
		w.Hold = Hold{By: v.Hold.By, At: v.Hold.At, Until: v.Hold.Until, Why: v.Hold.Reason, Entry: v.Hold.Entry}
	}
	if v.Run != nil {
		w.Run = entryOf(v.Run)
		w.Run.Deadline = v.RunDeadline
	}
	w.Watch = stretchesOf(v.Standings)
	for _, n := range v.Notches {
		w.Runs = append(w.Runs, PastRun{At: n.At, Number: n.Number, Kind: EntryKind(n.Kind), Outcome: Outcome(n.Outcome), Canary: n.Canary})
	}
	return w
}

func stretchesOf(all []logbook.Stretch) []Stretch {
	out := []Stretch{}
	for _, s := range all {
		out = append(out, Stretch{From: s.From, Standing: Standing(s.Standing), Health: Health(s.Health)})
	}
	return out
}

func asOf(a standing.AsOf) AsOf {
	return AsOf{Known: a.Known, At: a.At, Next: a.Next, Problem: a.Problem}
}

func revisionOf(r *logbook.Revision) Revision {
	if r == nil {
		return Revision{}
	}
	return Revision{Id: r.ID, Subject: r.Subject, Author: r.Author, At: r.At}
}

func objectOf(o standing.Object) Object {
	out := Object{Key: o.Ref.Key(), Group: o.Ref.Group, Kind: o.Ref.Kind, Namespace: o.Ref.Namespace, Name: o.Ref.Name, Step: o.Step, File: o.File, Line: o.Line,
		Standing: Standing(o.Standing), Change: ObjectChange(o.Change), Health: Health(o.Health.Word), Reason: o.Health.Reason,
		Fields: differences(o.Drift, o.Contested), Gone: o.Gone, AlreadyThere: o.AlreadyThere, OwnedFields: o.OwnedFields,
		Task: Task(o.Task), Scaler: o.Scaler, Left: o.Left, Additions: differences(o.Additions, nil)}
	if o.Restart != nil {
		out.RestartedBy, out.RestartedAt = o.Restart.Who, o.Restart.When
	}
	return out
}

func guardsOf(all []plan.Guard) []Guard {
	var out []Guard
	for _, g := range all {
		out = append(out, Guard{Name: g.Name, Text: g.Text, Mend: g.Mend, Instead: g.Instead})
	}
	return out
}

func pendingOf(o keeper.PendingObject) PendingObject {
	return PendingObject{Key: o.Ref.Key(), Kind: o.Ref.Kind, Namespace: o.Ref.Namespace, Name: o.Ref.Name, Step: o.Step, Task: Task(o.Task),
		Change: PendingObjectChange(o.Change), AlreadyThere: o.AlreadyThere, Replaced: o.Replaced, Refused: o.Refused, Fields: differences(o.Fields, nil)}
}

func differences(ds []compare.Difference, contested []bool) []Difference {
	out := []Difference{}
	for i, d := range ds {
		x := Difference{Path: d.Path, Change: DifferenceChange(d.Change), From: d.From, To: d.To, Who: d.Who, Likely: d.Likely, When: d.When, Pointer: d.Pointer}
		x.Contested = i < len(contested) && contested[i]
		out = append(out, x)
	}
	return out
}

func entryOf(e *logbook.Entry) Entry {
	out := Entry{Ward: e.Placement, Number: e.Number, Kind: EntryKind(e.Kind), Outcome: Outcome(e.Outcome), By: e.By, Why: e.Why, Reason: e.Reason,
		Revision: revisionOf(e.Revision), ToEntry: e.ToEntry, Started: e.Started, Ended: e.Ended, HasSnapshot: e.Snapshot != "", Canary: e.Canary}
	for _, o := range e.Objects {
		out.Objects = append(out.Objects, EntryObject{Key: o.Ref.Key(), Task: Task(o.Task), Replaced: o.Replaced, Log: o.Log, Began: o.Began, Ended: o.Ended, Kind: o.Ref.Kind, Namespace: o.Ref.Namespace, Name: o.Ref.Name, Step: o.Step, State: EntryObjectState(o.State), Reason: o.Reason})
	}
	return out
}

func podOf(o cluster.Owned) Pod {
	p := Pod{Name: o.Ref.Name, Health: Health(o.Health.Word), Reason: o.Health.Reason, Containers: []string{}}
	spec, _ := o.Body["spec"].(map[string]any)
	containers, _ := spec["containers"].([]any)
	for _, c := range containers {
		if m, ok := c.(map[string]any); ok {
			name, _ := m["name"].(string)
			p.Containers = append(p.Containers, name)
		}
	}
	status, _ := o.Body["status"].(map[string]any)
	states, _ := status["containerStatuses"].([]any)
	for _, c := range states {
		if m, ok := c.(map[string]any); ok {
			n, _ := m["restartCount"].(int64)
			p.Restarts += int(n)
		}
	}
	return p
}

func repoOf(r keeper.Repo) Repo {
	m := r.More
	out := Repo{Name: r.Name, Url: r.URL, User: r.User, About: m.About, Roster: m.Roster, Charts: m.Charts, SignedIn: r.SignedIn, WithKey: r.WithKey, Bearer: m.Bearer, OwnCa: m.CA != "",
		Signers: m.Signers, Expires: m.Expires, Warning: r.Warning, Wards: r.Wards, Rosters: r.Rosters, Branches: r.Branches, Repository: asOf(r.Repository), WantsApprovals: WantedApprovals{HowMany: r.Approvals.Count, OfTeams: r.Approvals.Of}}
	if m.Submodules {
		out.Follow = append(out.Follow, RepoFollowSubmodules)
	}
	if m.LargeFiles {
		out.Follow = append(out.Follow, RepoFollowLargeFiles)
	}
	return out
}

func clusterOf(c keeper.Cluster) Cluster {
	out := Cluster{Name: c.Name, About: c.About, Roster: c.Cluster.Roster, Context: c.Context, KubeconfigFile: c.Kubeconfig, By: ClusterByKubeconfig, Server: c.Server, Version: c.Version, Labels: c.Labels, Links: c.Links, OnlyNamespaces: c.Only, DeclaredNamespaces: c.May, Wards: c.Wards, Live: asOf(c.Live)}
	switch {
	case c.Lookout != nil:
		out.By, out.Lookout = ClusterByLookout, lookoutOf(c.Lookout)
	case c.InCluster:
		out.By = ClusterByInside
	case c.Cluster.Server != "":
		out.By = ClusterByToken
	}
	return out
}

func lookoutOf(l *keeper.Lookout) Lookout {
	out := Lookout{Here: l.Here, WaitsToJoin: l.Joined.IsZero(), Until: l.Until, Joined: l.Joined, Heard: l.Heard, Since: l.Since, Version: l.Version, Protocol: l.Protocol, Older: l.Older,
		Refused: l.Refused, RefusedAt: l.RefusedAt, Received: l.BytesIn, Sent: l.BytesOut, Waiting: l.Waiting, Alone: []LookoutAlone{}}
	if !out.WaitsToJoin {
		out.Until = time.Time{}
	}
	for _, a := range l.Alone {
		out.Alone = append(out.Alone, LookoutAlone{From: a.From, To: a.To})
	}
	return out
}

func rosterOf(r keeper.Roster) Roster {
	out := Roster{Name: r.Name, Repo: r.Repo, Ref: r.Ref, Path: r.Path, Parent: r.Parent, DeclaresTeams: r.Teams, Limits: Limits{Namespaces: r.Limits.Namespaces, Clusters: r.Limits.Clusters, As: r.Limits.As, Repos: r.Limits.Repos},
		Standing: RosterStanding(r.Standing), Says: r.Says, Todo: r.Todo, NeedsYou: r.NeedsYou, Revision: revisionOf(r.Revision), Repository: asOf(r.AsOf),
		Problems: []RosterProblem{}, Leaving: r.Leaving, Left: []LeftBehind{}, Wards: r.Wards, InStep: r.InStep, Ready: r.Ready, NeedYou: r.Loud}
	if r.Guarded != "" {
		out.Guard = roster.MassRemoval
	}
	for _, p := range r.Problems {
		out.Problems = append(out.Problems, RosterProblem{File: p.File, Line: p.Line, Text: p.Text, Ward: p.Ward})
	}
	for _, l := range r.Left {
		out.Left = append(out.Left, LeftBehind{Ward: l.Placement, At: l.At, Why: l.Why, Objects: named(l.Refs)})
	}
	return out
}

// named are keys of objects as people write them.
func named(keys []string) []string {
	out := make([]string, len(keys))
	for i, key := range keys {
		out[i] = key
		if ref, err := object.ParseKey(key); err == nil {
			out[i] = ref.String()
		}
	}
	return out
}
