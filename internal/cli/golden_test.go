package cli

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/client"
)

var golden = flag.Bool("golden", false, "write testdata/outputs anew")

// answers are what a service of Brindle Sound answers, by method and path.
func answers() map[string]any {
	now := time.Now()
	at := func(d time.Duration) time.Time { return now.Add(-d - 300*time.Millisecond).UTC() }
	seen := client.AsOf{Known: true, At: at(2 * time.Minute), Next: now.Add(210 * time.Second).UTC()}
	rev := func(id, subject string) client.Revision {
		return client.Revision{Id: id, Subject: subject, Author: "ticketing", At: at(time.Hour)}
	}
	leeward, gates := rev("2d6f2e6aa", "Prefer leeward berths in a gale"), rev("c15182faa", "fare-gate 2.8.0: new tariff zones")
	ward := func(name, cluster string, standing client.Standing, health client.Health, says string) client.Ward {
		return client.Ward{Id: name + "@" + cluster, Name: name, Cluster: cluster, Owner: "harbour-ops", Repo: "moorings", Ref: "main", Path: "services/" + name, Roster: "moorings", Source: "wards/" + name + ".yaml", Form: "plain",
			Standing: standing, Health: health, Since: at(36 * time.Minute), Says: says, Repository: seen, Live: client.AsOf{Known: true, At: at(0)}, Revision: leeward, Applied: leeward, AutoSync: true, SettleSeconds: 300, SettleOtherwise: "rollback",
			KeepAdditions: "report", Prune: true, ObjectCount: 6, Watch: []client.Stretch{}, Runs: []client.PastRun{}}
	}
	drifted := ward("berth-planner", "quay", "drifted", "ready", "kubectl-scale changed spec.replicas of Deployment/berth-planner from 2 to 5, and 1 more")
	drifted.DriftedFields, drifted.Drifted, drifted.NeedsYou, drifted.Todo = 2, 1, true, "Reported, not restored: so its file says (keep.drift). Restore it: vigila restore berth-planner@quay"
	failing := ward("fare-gate", "skerry", "behind", "failing", "Went back to ac220f9: Deployment/fare-gate: container app crash-loops, exit 2, “no fare table”, restarted 3 times; not ready within 20 s")
	failing.Pending, failing.NeedsYou, failing.Notes = 1, true, []string{"leave means Deploymnt/fare-gate, and nothing of that name is declared"}
	held := ward("fog-signal", "quay", "in step", "ready", "Held by operator: gale watch")
	held.Hold, held.AddedFields = client.Hold{By: "operator", At: at(2 * time.Hour), Why: "gale watch"}, 1
	difference := func(path string, from, to any) client.Difference {
		return client.Difference{Path: path, Change: "changed", From: from, To: to, Who: "kubectl-scale", When: at(36 * time.Minute)}
	}
	notice := "Boats to the skerry leave from the north pier while the gale lasts; tickets bought before are good until it is over."
	object := client.Object{Key: "k", Group: "apps", Kind: "Deployment", Namespace: "berth-planner", Name: "berth-planner", Standing: "drifted", Health: "ready", OwnedFields: 19, File: "services/berth-planner/app.yaml", Line: 3,
		Fields: []client.Difference{difference("spec.replicas", 2, 5), difference("spec.template.metadata.annotations[notice]", "none", notice)}}
	gate := client.Object{Key: "g", Group: "apps", Kind: "Deployment", Namespace: "fare-gate", Name: "fare-gate", Standing: "behind", Change: "update", Health: "failing", Reason: "container app crash-loops, exit 2, “no fare table”"}
	entry := func(n int, kind client.EntryKind, outcome client.Outcome, r client.Revision, by, why string) client.Entry {
		return client.Entry{Ward: "fare-gate@skerry", Number: n, Kind: kind, Outcome: outcome, By: by, Why: why, Revision: r, Started: at(90 * time.Minute), Ended: at(90*time.Minute - 22*time.Second), HasSnapshot: kind != "hold"}
	}
	back := entry(3, "rollback", "done", rev("ac220f9aa", "Add the services of the sound"), "vigila", "Deployment/fare-gate: container app crash-loops, exit 2, “no fare table”, restarted 3 times; not ready within 20 s")
	back.ToEntry = 1
	failed := entry(2, "sync", "rolled back", gates, "vigila", "new revision")
	failed.Reason = back.Why
	list := []client.Entry{entry(4, "hold", "done", client.Revision{}, "operator", "gale watch"), back, failed, entry(1, "sync", "done", rev("ac220f9aa", "Add the services of the sound"), "vigila", "brought up by admin")}
	whole := failed
	whole.Objects = []client.EntryObject{{Key: "c", Kind: "ConfigMap", Name: "fare-gate", State: "ready"}, {Key: "g", Kind: "Deployment", Name: "fare-gate", State: "not ready", Reason: "container app crash-loops, exit 2, “no fare table”, restarted 3 times"},
		{Key: "t", Kind: "Job", Name: "gate-report", Task: "failed", State: "ready", Began: at(time.Hour), Ended: at(time.Hour - 2*time.Second), Log: true}}
	image := client.Difference{Path: "spec.template.spec.containers[name=app].image", From: "registry.brindle.example/fare-gate:2.7.1", To: "registry.brindle.example/fare-gate:2.8.0"}
	moved := []client.MovedObject{{Key: "g", Kind: "Deployment", Name: "fare-gate", Change: "changed", Fields: []client.Difference{image}}, {Key: "c", Kind: "ConfigMap", Name: "fare-gate", Change: "added", Fields: []client.Difference{{Path: "data.zones", To: "4"}}}}
	guard := []client.Guard{{Name: "mass-removal", Text: "5 of 8 objects would be removed"}}
	preview := client.RunPreview{Ward: failing, Revision: gates, Guards: guard, Canaries: []client.PlannedCanary{{Of: "Deployment/fare-gate", Shares: []client.CanaryShare{{Percent: 5, Seconds: 600}, {Percent: 50, Person: true}}, WithinSeconds: 10800}}, BeforeCanary: []string{"ConfigMap/tariffs"}, TasksBeforeCanary: []string{"Job/fare-migrate"}, Objects: []client.PendingObject{{Key: "g", Kind: "Deployment", Name: "fare-gate", Change: "update", Fields: []client.Difference{image}},
		{Key: "n", Kind: "ConfigMap", Name: "notices", Change: "create", Fields: []client.Difference{{Path: "data.notice", To: notice}}}, {Key: "t", Kind: "Job", Name: "gate-report", Task: "after", Change: "run"}, {Key: "o", Kind: "ConfigMap", Name: "old-tariff", Change: "remove", Fields: []client.Difference{{Path: "data.zones", From: "3"}}}}}
	roster := client.Roster{Name: "moorings", Repo: "moorings", Ref: "main", Path: "wards", Standing: "behind", Says: "wards/tide-gauge.yaml:4: unknown key form; did you mean from?", NeedsYou: true, Revision: leeward, Repository: seen, Wards: 10, InStep: 5, Ready: 9, NeedYou: 5,
		Problems: []client.RosterProblem{{File: "wards/tide-gauge.yaml", Line: 4, Text: "unknown key form; did you mean from?", Ward: "tide-gauge"}}, Left: []client.LeftBehind{{Ward: "old-ferry@quay", At: at(3 * time.Hour), Why: "it left roster moorings", Objects: []string{"old-ferry/ConfigMap/horn"}}}}
	number := func(v float64) *float64 { return &v }
	quarter := 21.4
	happened := func(s int, text string) client.CanaryLine {
		return client.CanaryLine{At: time.Date(2026, 11, 23, 6, 0, s, 0, time.Local), Text: text}
	}
	canary := client.Canary{Ward: "ticket-office@skerry", Entry: 2, GoingOn: true, Phase: "sharing", Says: "the new version of Deployment/ticket-office has 20 % of the traffic, and 50 % waits for a person", WaitsForPerson: true, By: "vigila", Why: "new revision",
		Shares: []client.CanaryShare{{Percent: 5, Seconds: 20}, {Percent: 20, Person: true}, {Percent: 50, Seconds: 1800}}, Share: 1, Weight: 20, Began: at(12 * time.Minute), Until: now.Add(23*time.Hour + time.Hour/2),
		Workloads: []client.CanaryWorkload{{Key: "d", Kind: "Deployment", Name: "ticket-office", OldImage: "registry.brindle.example/ticket-office:3.1.0", NewImage: "registry.brindle.example/ticket-office:3.2.0", OldSize: 5, NewSize: 1, NewReady: true, AsksTraffic: true, SeenShare: &quarter, Checks: []client.CanaryCheck{
			{Name: "errors", Of: "query", Good: "value < 0.05", Unit: "value", Last: "good", Asked: 16, Bears: "2 in all", Points: []client.CanaryPoint{{At: at(0), New: number(0.01), Old: number(0)}}},
			{Name: "delivers", Of: "request", Good: "status == 200", Unit: "seconds", Last: "not known", Why: "no answer in time", Asked: 3, Bears: "none", Points: []client.CanaryPoint{{At: at(0)}}}}}},
		Happened: []client.CanaryLine{happened(0, "begins"), happened(1, "5 %: Deployment/ticket-office 1 beside 5"), happened(21, "20 %: Deployment/ticket-office 1 beside 5")}}
	wentBack := canary
	wentBack.GoingOn, wentBack.WaitsForPerson, wentBack.Phase, wentBack.Ended = false, false, "over", at(11*time.Minute)
	wentBack.Says, wentBack.Back = "went back from the new version of Deployment/ticket-office: check errors: value 0.4; good is value < 0.05", client.CanaryBack{Reason: "check errors", At: at(11 * time.Minute)}
	registry := client.Registry{Name: "harbour", Host: "registry.brindle.example", User: "crew", SignsIn: true, UsedBy: []string{"departures", "fare-gate"}}
	follow := client.Follow{Name: "fare-gate", Roster: "moorings", DeclaredAt: "wards/fare-gate.yaml:20", Image: "registry.brindle.example/fare-gate", Wants: ">=2.8 <3", Platforms: []string{"linux/amd64"}, AtLeastOldSeconds: 7200, Repo: "moorings", Ref: "main", File: "services/fare-gate/versions.yaml",
		Version: "2.8.1", Digest: "sha256:5f1c", Says: "at 2.8.1; 2.9.0 is not taken: it is taken once it is 2 h old, at Nov 26 13:20 UTC", Looked: at(time.Minute), Next: now.Add(4*time.Minute + 30*time.Second), Beyond: "3.0.0",
		Passed: []client.FollowPassed{{Version: "2.9.0", Why: "it is taken once it is 2 h old, at Nov 26 13:20 UTC"}}, History: []client.FollowPast{{Version: "2.8.1", Digest: "sha256:5f1c", Commit: "c15182f0", At: at(26 * time.Hour)}}, UsedBy: []string{"fare-gate@quay", "fare-gate@skerry"}}
	young := client.Follow{Name: "horn", Image: "registry.brindle.example/horn", Wants: "^main-(\\d+)$ by number", Repo: "moorings", Ref: "main", File: "services/horn/versions.yaml", Says: "no version fits ^main-(\\d+)$ by number", NeedsYou: true}
	source := client.MetricsSource{Name: "harbour-metrics", Url: "https://metrics.brindle.example", SignsIn: true, UsedBy: []string{"departures@skerry", "ticket-office@skerry"}}
	proposed := client.Proposal{Number: 12, Repo: "moorings", Base: "main", Branch: "vigila/gate-2.8.1", Standing: "open", Says: "waits for a review", NeedsYou: true, Title: "gate 2.8.1", By: "follow gate",
		Why: "registry.brindle.example/gate was at 2.8.0; 2.8.1 is the newest that >=2.8 <3 takes.", Opened: at(4 * time.Minute), Commit: "2d6f2e6aa", Own: true}
	stale := client.Proposal{Number: 13, Repo: "moorings", Base: "main", Branch: "vigila/tide", Standing: "stale", Says: "changed on main as well, in another way: tide/c.yaml", NeedsYou: true, Title: "Keep the tide", By: "operator", Opened: at(26 * time.Hour), Commit: "c15182f", Conflicts: []string{"tide/c.yaml"}}
	approved, merged := proposed, proposed
	approved.Says = "approved by operator; waits for its merge"
	merged.Standing, merged.Result = "merged", "c15182faa"
	effect := client.Effect{Repo: "moorings", Base: "main", Branch: "vigila/gate-2.8.1", Same: 1,
		Problems: []client.RosterProblem{{File: "wards/x.yaml", Line: 3, Text: "unknown key frm; did you mean from?"}},
		Files:    []client.FileEffect{{Path: "gate/versions.yaml", Change: "changed", Patch: "diff --git a/x b/x\n--- a/x\n+++ b/x\n@@ -1,2 +1,2 @@\n images:\n-  gate: 2.8.0\n+  gate: 2.8.1\n"}, {Path: "notes.txt", Change: "added", Hidden: "no ward and no roster reads it"}},
		Effects: []client.WardEffect{
			{Ward: "fare-gate@skerry", Cluster: "skerry", Change: "changed", Objects: moved, Canaries: []string{"Deployment/fare-gate"}},
			{Ward: "gone@quay", Cluster: "quay", Change: "removed", Filed: true},
			{Ward: "cleared@quay", Cluster: "quay", Change: "removed", Filed: true, Dismantles: true},
			{Ward: "new@quay", Cluster: "quay", Change: "added", Filed: true, Refusals: []client.RefusedObject{{Kind: "Service", Name: "new", Says: "port 700000 is none"}}, Guards: []client.Guard{{Name: "mass-removal", Text: "five of seven objects go"}}},
			{Ward: "tide@quay", Cluster: "quay", Change: "changed", Problem: "tide/c.yaml:3: this is not valid YAML"},
			{Ward: "bell@quay", Cluster: "quay", Change: "changed", Filed: true, Untried: "bell@quay can't run: its cluster does not answer"}}}
	versions, hours := "services/fare-gate/skerry/versions.yaml", "services/fare-gate/skerry/config/hours.yaml"
	change := client.LotChange{Path: versions, Of: "registry.brindle.example/fare-gate", Says: "2.8.0 to 2.8.1"}
	along := client.LotChange{Path: hours, Says: "changed", Unseen: true, Whose: "of lot 11 Open later in winter, never let in here"}
	passage := func(stop string, lot int, d time.Duration, by string) client.Passage {
		return client.Passage{Stop: stop, Title: fmt.Sprintf("lot %d", lot), Lot: lot, Since: at(d), ArrivedAt: at(d - 5*time.Minute), By: by}
	}
	closed := passage("holm", 9, 50*time.Hour, "operator")
	closed.Against, closed.Why = []string{"it has not arrived at quay"}, "the ferry waits"
	lane := client.Lane{Name: "fare-gate", About: "New versions of the gates.", Roster: "moorings", DeclaredAt: "wards/lanes.yaml:2", Repo: "moorings", Ref: "main", Carries: []string{"services/fare-gate/{stop}/versions.yaml", "services/fare-gate/{stop}/config/**"},
		Says: "at skerry and holm lot 12 waits to be let in by harbour-ops", NeedsYou: true, Stops: []client.LaneStop{
			{Name: "quay", Says: "lot 13 is on its way: fare-gate@quay: Sync #7: 1 of 2 done", Waits: "has to be ready for 30m", Arrives: now.Add(12*time.Minute + 30*time.Second), Passage: passage("quay", 13, 18*time.Minute, "ticketing")},
			{Name: "skerry", Says: "lot 10 has arrived; lot 12 waits to be let in by harbour-ops", NeedsYou: true, Arrived: true, Passage: passage("skerry", 10, 26*time.Hour, "operator"), Hours: "Mon-Thu 09:00-16:00 UTC",
				Offer: client.LotOffer{Lot: 12, Unseen: true, Asks: true, Next: now.Add(5*time.Hour + 30*time.Second), Changes: []client.LotChange{change, along}}},
			{Name: "holm", Together: "skerry", Says: "lot 9 failed: fare-gate@holm: container app crash-loops", NeedsYou: true, Passage: closed}}}
	lane.Stops[2].Passage.Failed = "fare-gate@holm: container app crash-loops"
	lots := client.LotList{Total: 13, Items: []client.Lot{
		{Number: 13, Stop: "quay", Commit: "2d6f2e6aa", Subject: "fare-gate 2.8.2", At: at(18 * time.Minute), Way: []client.Passage{{Stop: "quay", Since: at(18 * time.Minute)}}},
		{Number: 12, Stop: "quay", Commit: "c15182faa", Subject: "fare-gate 2.8.1", At: at(3 * time.Hour), Way: []client.Passage{passage("quay", 12, 3*time.Hour, "ticketing")}, Brings: []client.BroughtCommit{{Subject: "fare-gate 2.8.1"}, {Subject: "Quieter gates"}}, More: 2}}}
	letting := client.LotPreview{Lane: "fare-gate", Lot: 12, Subject: "fare-gate 2.8.1", Unseen: true, Seen: "5f1c", Against: []string{"skerry lets lots in Mon-Thu 09:00-16:00 UTC, the next time on Mon 09:00"},
		StopsChanged: []client.StopChanges{{Stop: "skerry", Changes: []client.LotChange{change, along}}, {Stop: "holm"}}, Effect: client.Effect{Repo: "moorings", Base: "main", Branch: "lot 12", Effects: effect.Effects[:1], Files: effect.Files[:1]}}
	stores := []client.Store{{Name: "harbour", Form: "kv", Url: "https://secrets.brindle.example", Mount: "secret", ForOwners: []string{"signals", "ticketing"}, EverySeconds: 60, Looked: at(12 * time.Minute), Missing: 1, UsedBy: []string{"fare-gate@quay", "fare-gate@skerry", "gale-post@quay"}},
		{Name: "sealed", Form: "files", Repo: "moorings", Directory: "secrets", EverySeconds: 60, Looked: at(40 * time.Minute), Problem: "store sealed: secrets/gate.yaml of moorings, branch main: it is encrypted to other keys than the store's; encrypt it to the public key of the store as well"},
		{Name: "vault", Form: "namespace", Cluster: "quay", Namespace: "harbour-secrets", EverySeconds: 60, Looked: at(5 * time.Minute)}}
	missing := client.Secret{Reference: "harbour/fare-gate#password", Store: "harbour", Path: "fare-gate", Key: "password", Says: "missing", NeedsYou: true, UsedBy: []string{"fare-gate@skerry"}, ObjectsUsing: []string{"fare-gate@skerry Secret/fare-gate"}}
	secrets := []client.Secret{missing, {Reference: "sealed/gate#token", Store: "sealed", Path: "gate", Key: "token", Says: "unknown", Reason: stores[1].Problem, ObjectsUsing: []string{"fare-gate@quay Secret/fare-gate"}},
		{Reference: "harbour/gale-post#token", Says: "set", Version: "3", ObjectsUsing: []string{"gale-post@quay Secret/gale-post", "gale-post@skerry Secret/gale-post"}}}
	quay := client.Cluster{Name: "quay", Server: "https://quay.brindle.example:6443", Version: "v1.37.2", Labels: map[string]string{"tier": "rehearsal", "line": "brindle"}, Live: seen, Wards: 5, By: client.ClusterByLookout,
		Lookout: client.Lookout{Here: true, Since: at(3 * time.Hour), Heard: at(4 * time.Second), Version: "1.4", Older: true, Received: 3 << 20, Sent: 700, Alone: []client.LookoutAlone{}}}
	skerry := client.Cluster{Name: "skerry", Version: "v1.37.2", Live: client.AsOf{At: at(time.Hour), Problem: "the lookout of skerry was heard of last"}, Wards: 4, By: client.ClusterByLookout,
		Lookout: client.Lookout{Heard: at(time.Hour), Refused: "192.0.2.7", RefusedAt: at(30 * time.Minute), Alone: []client.LookoutAlone{}}}
	holm := client.Cluster{Name: "holm", Live: client.AsOf{Problem: "waits"}, By: client.ClusterByLookout, Lookout: client.Lookout{WaitsToJoin: true, Until: at(time.Hour), Alone: []client.LookoutAlone{}}}
	return map[string]any{
		"GET /stores":                       client.StoreList{Items: stores, Total: 3},
		"POST /stores":                      stores[0],
		"POST /stores/harbour/try":          stores[0],
		"GET /stores/harbour/pushes":        client.Pushes{Path: "/api/v1/stores/harbour/pushes"},
		"DELETE /stores/harbour":            "",
		"GET /secrets":                      client.SecretList{Items: secrets, Total: 3, Missing: 1},
		"POST /secrets":                     client.Secret{Reference: missing.Reference, Says: "set", UsedBy: missing.UsedBy},
		"GET /lanes":                        client.LaneList{Items: []client.Lane{lane}, Total: 1},
		"GET /lanes/fare-gate":              lane,
		"GET /lanes/fare-gate/lots":         lots,
		"GET /lanes/fare-gate/preview":      letting,
		"GET /lanes/fare-gate/compare":      client.StopComparison{Lane: "fare-gate", One: "quay", Other: "skerry", Changes: []client.LotChange{{Of: change.Of, Says: "2.8.2 to 2.8.0"}, {Path: hours, Says: "changed"}}, Effect: letting.Effect},
		"POST /lanes/fare-gate/promote":     client.PromotedLot{Lane: "fare-gate", Lot: 12, StopsChanged: letting.StopsChanged[:1]},
		"POST /lanes/fare-gate/hold":        lane,
		"POST /lanes/fare-gate/release":     lane,
		"GET /wards/ticket-office/canary":   canary,
		"GET /wards/departures/canary":      wentBack,
		"POST /wards/ticket-office/canary":  canary,
		"GET /follows":                      client.FollowList{Items: []client.Follow{follow, young}, Total: 2},
		"GET /follows/fare-gate":            follow,
		"POST /follows/fare-gate/look":      follow,
		"GET /registries":                   client.RegistryList{Items: []client.Registry{registry}, Total: 1},
		"POST /registries":                  registry,
		"DELETE /registries/harbour":        "",
		"GET /registries/harbour/pushes":    client.Pushes{Path: "/api/v1/registries/harbour/pushes"},
		"POST /registries/harbour/push-key": client.PushKey{Key: "NQ3WZ5", Path: "/api/v1/registries/harbour/pushes"},
		"GET /alerts":                       client.AlertList{Items: []client.Alert{{Name: "harbour", Roster: "moorings", OfWhat: "wards of harbour-ops", GoesTo: []string{"ops-chat", "mail: ops@brindle.example"}, Told: 1, Waiting: 2}, {Name: "stuck", OfWhat: "everything", Topics: []string{"can't go back", "blind"}, GoesTo: []string{"pager"}, WaysMissing: []string{"pager"}}}, Total: 2},
		"GET /deliveries": client.DeliveryList{Items: []client.Delivery{
			{Alert: "harbour", ByWay: "ops-chat", Kind: "over", Title: "fog-signal@quay: over: needs you", Lines: []string{"fog-signal@quay: horn-tuner changed data.interval of ConfigMap/fog-signal"}, MadeAt: at(2 * time.Minute), Delivered: at(time.Minute), Tries: 3},
			{Alert: "harbour", ByWay: "ops-chat", Kind: "opened", Title: "fare-gate@skerry: went back", Lines: []string{"fare-gate@skerry: Went back to ac220f9"}, MadeAt: at(3 * time.Minute), Next: now.Add(time.Minute), Tries: 2, Problem: "ops-chat can't take it now: 503"},
			{Alert: "harbour", ByWay: "mail", GoesTo: []string{"ops@brindle.example"}, Kind: "opened", Title: "fare-gate@skerry: went back", Lines: []string{"fare-gate@skerry: Went back to ac220f9"}, MadeAt: at(3 * time.Minute), Tries: 1, Problem: "mail refuses ops@brindle.example: 550 no such box"}}, Total: 3},
		"GET /mutes":                                 client.MuteList{Items: []client.Mute{{Subject: "fare-gate@skerry", Until: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC), By: "operator", Why: "gale", At: at(time.Minute)}}},
		"POST /mutes":                                client.Mute{Subject: "fare-gate@skerry", Until: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)},
		"DELETE /mutes":                              "",
		"GET /ways":                                  client.WayList{Items: []client.Way{{Name: "mail", Form: "mail", Server: "mail.brindle.example:587", GoesTo: []string{"ops@brindle.example"}}, {Name: "ops-chat", Form: "chat", Server: "chat.brindle.example", About: "the watch"}}},
		"POST /ways/ops-chat/try":                    "",
		"DELETE /ways/ops-chat":                      "",
		"GET /metrics-sources":                       client.MetricsSourceList{Items: []client.MetricsSource{source}, Total: 1},
		"POST /metrics-sources":                      source,
		"DELETE /metrics-sources/harbour-metrics":    "",
		"POST /metrics-sources/harbour-metrics/try":  client.MetricsAnswer{Values: []float64{19.9286}},
		"GET /wards":                                 client.WardList{Items: []client.Ward{failing, drifted, held}, Total: 63, InStep: 61, NeedYou: 2, Folded: 60, Groups: []client.WardGroup{{By: "cluster", Name: "quay", Total: 62, InStep: 61, Folded: 60, Watch: []client.Stretch{{From: at(5 * time.Hour), Standing: "in step", Health: "ready"}}}}},
		"GET /wards/berth-planner":                   client.WardDetail{Ward: drifted, Outline: []client.Object{{Kind: "Namespace", Name: "berth-planner", Step: -1, Standing: "in step", Health: "ready"}, object}},
		"GET /wards/fare-gate":                       client.WardDetail{Ward: failing, Outline: []client.Object{gate}},
		"GET /wards/fare-gate@skerry/object":         client.ObjectDetail{Object: gate, Events: []client.ClusterEvent{{At: at(time.Minute), IsWarning: true, About: "Pod/fare-gate-1", Reason: "BackOff", Text: "Back-off restarting failed container app"}}, Pods: []client.Pod{{Name: "fare-gate-1", Health: "failing", Containers: []string{"app"}, Restarts: 3}}},
		"GET /wards/fare-gate@skerry/logs":           "reading tariff zones: 4\nno fare table\n",
		"GET /wards/berth-planner/diff":              client.WardDiff{Ward: drifted, Changes: []client.PendingObject{}, Drift: []client.Object{object}},
		"POST /wards/fare-gate/look":                 failing,
		"POST /wards/fare-gate/preview":              preview,
		"GET /entries":                               client.EntryList{Items: list, Total: 61},
		"GET /wards/fare-gate/entries":               client.EntryList{Items: list, Total: 4},
		"GET /wards/fare-gate/entries/2":             whole,
		"GET /wards/fare-gate@skerry/compare":        client.Comparison{From: list[3], To: failed, Objects: moved},
		"GET /wards/fare-gate/compare":               client.Comparison{From: list[3], To: failed, Objects: moved},
		"GET /wards/fare-gate/rejections":            client.RejectionList{Items: []client.Rejection{{Revision: gates, Why: back.Why, By: "vigila", At: at(90 * time.Minute)}}},
		"PUT /wards/fare-gate/hold":                  held,
		"DELETE /wards/fare-gate/hold":               failing,
		"POST /wards/fare-gate/rejections":           failing,
		"DELETE /wards/fare-gate/rejections/c15182f": failing,
		"DELETE /wards/fare-gate/runs/current":       "",
		"GET /wards/fare-gate/has/2d6f2e6":           client.HasRevision{Has: true, Read: true, Head: "2d6f2e6aa"},
		"GET /wards/fare-gate/entries/2/log":         "gate 1: no fare table\n",
		"GET /wards/fare-gate@skerry/entries/2/log":  "gate 1: no fare table\n",
		"GET /wards/fare-gate@skerry/entries/2":      whole,
		"GET /rosters":                               client.RosterList{Items: []client.Roster{roster}, Total: 1},
		"GET /rosters/moorings":                      roster,
		"GET /repos":                                 client.RepoList{Items: []client.Repo{{Name: "moorings", Url: "https://git.brindle.example/moorings.git", Branches: []string{"main", "next"}, Repository: seen, Wards: 10, Rosters: 1, Warning: "its token ends in 3 d"}}, Total: 1},
		"GET /repos/moorings/pushes":                 client.Pushes{Path: "/api/v1/repos/moorings/pushes", HasKey: true, Last: at(4 * time.Minute)},
		"GET /clusters":                              client.ClusterList{Items: []client.Cluster{quay, skerry, holm}, Total: 3},
		"GET /clusters/quay":                         client.ClusterPage{ClusterOf: quay, Whole: true, KeptBy: []client.OwnerHere{{Owner: "harbour-ops", Wards: 3, InStep: 2, NeedYou: 1}, {Wards: 2, InStep: 2}}, Machines: []client.Machine{{Name: "n1", Up: true, Millicores: 4000, Bytes: 16 << 30, PodRoom: 110}, {Name: "n2", Says: "the kubelet is silent", Since: at(time.Hour)}}},
		"GET /clusters/skerry":                       client.ClusterPage{ClusterOf: skerry, KeptBy: []client.OwnerHere{{Owner: "ticketing", Wards: 4, NeedYou: 4}}, WarningsUnknown: "Not known while its lookout is away."},
		"GET /tokens":                                client.TokenList{Items: []client.Token{{Name: "pipeline", Role: "operator", Made: at(48 * time.Hour), Used: at(time.Minute), Expires: now.Add(89*24*time.Hour + time.Hour)}, {Name: "admin", Role: "admin", Made: at(48 * time.Hour), Used: at(time.Minute), You: true}}, Total: 2},
		"GET /proposals":                             client.ProposalList{Items: []client.Proposal{proposed, stale}, Total: 2},
		"GET /proposals/12":                          proposed,
		"GET /proposals/12/effect":                   effect,
		"GET /proposals/13":                          stale,
		"GET /proposals/13/effect":                   client.Effect{Repo: "moorings", Base: "main", Branch: stale.Branch, Conflicts: stale.Conflicts},
		"GET /repos/moorings/effect":                 effect,
		"POST /proposals/12/approvals":               approved,
		"POST /proposals/12/merge":                   merged,
		"POST /proposals/13/withdraw":                client.Proposal{Number: 13, Branch: stale.Branch},
		"GET /me":                                    client.Token{Name: "admin", Role: "admin"},
	}
}

// TestOutputs: what the commands print, on terminals of two widths. go test ./internal/cli -run TestOutputs -golden writes it anew; read
// what it says before committing it.
func TestOutputs(t *testing.T) {
	known := answers()
	var mu sync.Mutex // a connection that is made anew is served beside the one before
	asked := map[string]bool{}
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		what := r.Method + " " + strings.TrimPrefix(r.URL.Path, "/api/v1")
		v, is := known[what]
		mu.Lock()
		asked[what] = true
		mu.Unlock()
		if !is {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusNotFound)
			_ = json.NewEncoder(w).Encode(client.Problem{Title: "Not found", Detail: "nothing is prepared for " + what, Status: 404})
			return
		}
		if text, plain := v.(string); plain {
			_, _ = w.Write([]byte(text))
			return
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(v)
	}))
	defer service.Close()
	t.Setenv("VIGILA_URL", service.URL)
	t.Setenv("VIGILA_TOKEN", "vigila_x")
	t.Setenv("TZ", "UTC")
	for _, width := range []int{80, 140} {
		var out bytes.Buffer
		for _, line := range []string{"ward list", "ward show berth-planner", "ward show fare-gate", "diff berth-planner", "sync fare-gate --preview", "logbook", "logbook fare-gate", "logbook fare-gate 2", "compare fare-gate 1 2", "rejections fare-gate",
			"roster list", "roster show moorings", "repo list", "repo pushes moorings", "cluster list", "cluster show quay", "cluster show skerry", "token list", "rollback fare-gate --propose --preview",
			"look fare-gate", "run fare-gate 2", "logbook fare-gate 2 --log gate-report", "hold fare-gate --for 2h --why gale", "release fare-gate", "reject fare-gate c15182f --why squeaks", "accept fare-gate c15182f", "sync fare-gate --stop", "canary show ticket-office", "canary show departures", "canary next ticket-office", "canary show gate", "follow list", "follow show fare-gate", "follow take fare-gate 2.9.0", "registry list", "registry pushes harbour", "registry pushes harbour --new-key", "registry add harbour registry.brindle.example", "registry remove harbour", "propose list", "propose show 12", "propose show 13", "propose effect --repo moorings --branch vigila/gate-2.8.1", "propose approve 12", "propose merge 12", "propose withdraw 13", "propose show x", "lane list", "lane show fare-gate", "lane show fare-gate --limit 2", "lane preview fare-gate --to skerry", "lane promote fare-gate --to skerry --along --why late", "lane compare fare-gate quay skerry", "lane hold fare-gate skerry --why gale", "lane hold fare-gate skerry", "lane release fare-gate skerry", "lane show", "lane promote fare-gate", "alert list", "alert log", "alert muted", "alert mute fare-gate --for 2h --why gale", "alert mute fare-gate", "alert unmute fare-gate", "alert way list", "alert way try ops-chat", "alert way add x", "alert way remove ops-chat", "store list", "store add harbour https://secrets.brindle.example", "store add vault --namespace quay", "store try harbour", "store pushes harbour", "store remove harbour", "secret list", "secret set harbour/fare-gate#password", "metrics list", "metrics add harbour-metrics https://metrics.brindle.example", "metrics try harbour-metrics up", "metrics remove harbour-metrics",
			"logbook --since yesterday", "repo notices moorings", "ward lst", "nonsense"} {
			fmt.Fprintf(&out, "$ vigila %s\n", line)
			a := &app{stderr: &out, width: width}
			root := a.root("test")
			root.SetOut(&out)
			root.SetErr(&out)
			root.SetArgs(strings.Fields(line))
			if code := Main(t.Context(), root, &out); code != 0 {
				fmt.Fprintf(&out, "(exit code %d)\n", code)
			}
			out.WriteString("\n")
		}
		text := out.String()
		for _, e := range known["GET /entries"].(client.EntryList).Items { // absolute times are told in an entry
			text = strings.ReplaceAll(text, e.Started.Local().Format("2006-01-02 15:04:05 MST"), "2026-11-23 06:00:00 UTC")
		}
		for _, tk := range known["GET /tokens"].(client.TokenList).Items {
			text = strings.ReplaceAll(text, tk.Made.Local().Format(time.DateOnly), "2026-11-21")
		}
		text = strings.ReplaceAll(text, time.Now().Format(time.DateOnly), "2026-11-23")
		text = strings.ReplaceAll(text, service.URL, "http://127.0.0.1:7740")
		for i, row := range strings.Split(text, "\n") {
			if strings.HasPrefix(row, "WARD ") || strings.HasPrefix(row, "ENTRY ") {
				assert.LessOrEqual(t, len([]rune(row)), width, "line %d", i+1)
			}
		}
		file := filepath.Join("testdata", "outputs", fmt.Sprintf("%d.txt", width))
		if *golden {
			require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
			require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
			continue
		}
		want, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, string(want), text)
	}
	assert.True(t, asked["POST /wards/fare-gate/preview"])
}
