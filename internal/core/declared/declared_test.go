package declared

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/index"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
)

var (
	horn    = object.Ref{Kind: "ConfigMap", Namespace: "n", Name: "horn"}
	bell    = object.Ref{Kind: "ConfigMap", Namespace: "n", Name: "bell"}
	harbour = object.Ref{Kind: "Namespace", Name: "n"}
	migrate = object.Ref{Group: "batch", Kind: "Job", Namespace: "n", Name: "migrate"}
)

func plain(ref object.Ref, hash string) Object {
	return Object{Declared: plan.Declared{Ref: ref, Hash: hash}, Version: "v1", File: "a.yaml"}
}

func task(ref object.Ref, hash string) Object {
	o := plain(ref, hash)
	o.Task = object.Before
	return o
}

func declaration(objects ...Object) *Declaration {
	d := &Declaration{Snapshot: "s"}
	d.Take(objects)
	return d
}

// against is a side where some objects are kept as they were applied: refs, with the hash 1.
func against(kept ...object.Ref) Side {
	x := index.New(nil, index.Settings{})
	for _, ref := range kept {
		x.Keep(compare.Baseline{Ref: ref, Version: "v1", Declared: "1", UID: "u"})
	}
	return Side{Index: x, Prune: true, Shared: func(Object) bool { return false }, Scaler: func(object.Ref) string { return "" }, Done: map[string]string{}}
}

func TestWhatTheRepositoryMoved(t *testing.T) {
	for name, c := range map[string]struct {
		declared *Declaration
		side     func(*Side)
		want     Behind
	}{
		"nothing is known":  {nil, func(*Side) {}, Behind{Count: 1}},
		"as it was applied": {declaration(plain(horn, "1")), func(*Side) {}, Behind{Count: 1}},
		"changed":           {declaration(plain(horn, "2")), func(*Side) {}, Behind{Apply: []object.Ref{horn}, Count: 1}},
		"new":               {declaration(plain(horn, "1"), plain(bell, "1")), func(*Side) {}, Behind{Apply: []object.Ref{bell}, Count: 2}},
		"gone":              {declaration(plain(bell, "1")), func(*Side) {}, Behind{Apply: []object.Ref{bell}, Remove: []object.Ref{horn}, Count: 2}},
		"gone, not pruned":  {declaration(plain(bell, "1")), func(s *Side) { s.Prune = false }, Behind{Apply: []object.Ref{bell}, Count: 2}},
		"gone, and guarded: else the ward would be behind for ever": {declaration(), func(s *Side) {
			s.Index.Keep(compare.Baseline{Ref: horn, Declared: "1", Guards: "no-replace, no-prune"})
		}, Behind{Count: 1}},
		"a task is no object that is kept":     {declaration(plain(horn, "1"), task(migrate, "a")), func(*Side) {}, Behind{Tasks: []object.Ref{migrate}, Count: 2}},
		"a task that ran":                      {declaration(plain(horn, "1"), task(migrate, "a")), func(s *Side) { s.Done[migrate.Key()] = "a" }, Behind{Count: 2}},
		"a task that changed is reason enough": {declaration(plain(horn, "1"), task(migrate, "b")), func(s *Side) { s.Done[migrate.Key()] = "a" }, Behind{Tasks: []object.Ref{migrate}, Count: 2}},
		"an object that became a task":         {declaration(task(horn, "1")), func(*Side) {}, Behind{Tasks: []object.Ref{horn}, Count: 1}},
		"a task's object that nobody declares": {declaration(plain(horn, "1")), func(s *Side) { s.Tasks = []object.Ref{migrate} }, Behind{Remove: []object.Ref{migrate}, Count: 2}},
		"in the middle of a run": {declaration(plain(horn, "2")), func(s *Side) {
			s.Known = map[object.Ref]compare.Baseline{horn: {Ref: horn, Declared: "2"}}
		}, Behind{Count: 1}},
		"never answered": {declaration(plain(horn, "1")), func(s *Side) {
			s.Index.Keep(compare.Baseline{Ref: horn, Declared: "1", Intent: 4})
		}, Behind{Apply: []object.Ref{horn}, Count: 1}},
		"a namespace that another ward keeps": {declaration(plain(horn, "1"), plain(harbour, "1")), func(s *Side) {
			s.Shared = func(o Object) bool { return o.Ref == harbour }
		}, Behind{Count: 1, Shares: true}},
		"an autoscaler that comes later": {declaration(plain(horn, "1")), func(s *Side) { s.Scaler = func(object.Ref) string { return "h" } }, Behind{Count: 1}},
		"an autoscaler that was there at the apply": {declaration(plain(horn, "1")), func(s *Side) {
			s.Scaler = func(object.Ref) string { return "h" }
			s.Index.Keep(compare.Baseline{Ref: horn, Declared: ScaledMark + "1"})
		}, Behind{Count: 1}},
		"an autoscaler that has gone since": {declaration(plain(horn, "1")), func(s *Side) {
			s.Index.Keep(compare.Baseline{Ref: horn, Declared: ScaledMark + "1"})
		}, Behind{Apply: []object.Ref{horn}, Count: 1}},
	} {
		t.Run(name, func(t *testing.T) {
			s := against(horn)
			c.side(&s)
			got := c.declared.Pending(s)
			assert.Equal(t, c.want.Apply, got.Apply)
			assert.ElementsMatch(t, c.want.Remove, got.Remove)
			assert.Equal(t, c.want.Tasks, got.Tasks)
			assert.Equal(t, c.want.Count, got.Count)
			assert.Equal(t, c.want.Shares, got.Shares)
		})
	}
}

func TestAPlanIsWhatIsPending(t *testing.T) {
	s := against(horn)
	d := declaration(plain(horn, "1"), task(migrate, "a"))
	made := d.Plan(s, d.Pending(s), nil, nil)
	assert.Equal(t, []object.Ref{migrate}, made.Tasks())
	assert.Empty(t, made.Refs())
	s.Done[migrate.Key()] = "a"
	made = d.Plan(s, d.Pending(s), nil, nil)
	assert.True(t, made.Empty())
	made = d.Plan(s, d.Pending(s), []object.Ref{horn}, nil)
	assert.Equal(t, []object.Ref{horn}, made.Refs(), "what is put back on the way")
	assert.Equal(t, map[object.Ref]string{horn: "remove"}, declaration().Pending(s).Changes(s.Index))
	s = against()
	assert.Equal(t, map[object.Ref]string{horn: "create", migrate: "run"}, d.Pending(s).Changes(s.Index))
	s = against(horn, bell)
	s.Index.Keep(compare.Baseline{Ref: horn, Declared: "1", Guards: "no-prune"})
	made = declaration().Plan(s, declaration().Pending(s), nil, []string{"mass-removal", "empty-render"})
	assert.Equal(t, []object.Ref{bell}, made.Removed())
	assert.Equal(t, []object.Ref{horn}, made.Kept, "the plan still tells of what is guarded")
}

func TestWhatIsHalfThere(t *testing.T) {
	whole := map[object.Ref]string{horn: "1", bell: "1"}
	d := declaration(plain(horn, "2"), plain(bell, "2"))
	s := against(horn, bell)
	assert.Zero(t, d.Half(s.Index, whole, nil))
	s.Index.Keep(compare.Baseline{Ref: horn, Declared: "2", UID: "u"})
	assert.Equal(t, 1, d.Half(s.Index, whole, nil), "one is of the new revision")
	assert.Equal(t, 2, d.Half(s.Index, nil, nil), "parts of what never was a whole")
	s.Index.Drop(bell)
	assert.Equal(t, 2, d.Half(s.Index, whole, nil), "and one is not there any more")
	assert.Equal(t, 1, d.Half(s.Index, whole, map[string]string{bell.Key(): "1"}), "a task is not kept")
	s.Index.Keep(compare.Baseline{Ref: horn, Declared: ScaledMark + "1", UID: "u"})
	assert.Equal(t, 1, d.Half(s.Index, whole, nil), "without its replicas it is the same")
}

func TestADeclarationIsFoundInByRef(t *testing.T) {
	var none *Declaration
	assert.Nil(t, none.Find(horn))
	assert.False(t, none.Known())
	d := declaration(plain(horn, "1"), plain(bell, "1"), Object{Declared: plan.Declared{Ref: harbour}})
	assert.Equal(t, "1", d.Find(horn).Hash)
	assert.Nil(t, d.Find(migrate))
	assert.True(t, d.Find(harbour).Made, "no file declares it")
	assert.True(t, d.Known())
	d.Waits = "for a first commit"
	assert.False(t, d.Known())
}

func TestADeclarationSharesTexts(t *testing.T) {
	d := declaration(plain(horn, "1"), plain(bell, "1"))
	s := against(horn)
	d.Share(s.Index.Baselines())
	assert.Equal(t, declaration(plain(horn, "1"), plain(bell, "1")), d, "and says the same")
}

func TestDefinitionsNameTheirKinds(t *testing.T) {
	definition := func(scope string) object.Object {
		return object.Object{Ref: object.Ref{Kind: "CustomResourceDefinition"}, Body: map[string]any{"spec": map[string]any{"group": "mend.brindle.example", "scope": scope, "names": map[string]any{"kind": scope + "Tug"}}}}
	}
	assert.Equal(t, map[[2]string]bool{{"mend.brindle.example", "NamespacedTug"}: true, {"mend.brindle.example", "ClusterTug"}: false},
		Definitions([]object.Object{definition("Namespaced"), definition("Cluster"), {Ref: horn}}))
}
