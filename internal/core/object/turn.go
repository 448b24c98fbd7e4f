package object

import (
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"
)

// Task says when an object that is a task has its turn; empty for an object that is kept.
type Task string

// The values of TaskAnnotation.
const (
	NoTask Task = ""
	Before Task = "before" // before the objects of its step
	After  Task = "after"  // once they are ready
	OnFail Task = "failed" // when the run has failed
)

// Clean says when the object of a task is removed, at the end of the run.
type Clean string

// The values of CleanAnnotation.
const (
	CleanSuccess Clean = "success" // when the run ended done
	CleanAlways  Clean = "always"
	CleanNever   Clean = "never" // it stays until the next run makes it anew
)

// Turn is what an object's annotations say about runs.
type Turn struct {
	Step      int
	Stepped   bool // it names a step itself
	Task      Task
	Clean     Clean
	NoPrune   bool // a run may never remove it
	NoReplace bool // a run may never delete it to make it again
	Replace   bool // it may be deleted and made again when a change can't be applied in place
}

// Turn reads the object's annotations below vigila.dev. A value that has no meaning, and an annotation that does
// not exist, are errors that say what to write.
func (o Object) Turn() (Turn, error) {
	t := Turn{Clean: CleanSuccess}
	meta, _ := o.Body["metadata"].(map[string]any)
	all, _ := meta["annotations"].(map[string]any)
	names := make([]string, 0, len(all))
	for name := range all {
		if strings.HasPrefix(name, "vigila.dev/") {
			names = append(names, name)
		}
	}
	sort.Strings(names)
	for _, name := range names {
		v, text := all[name].(string)
		bad := func(want string) error {
			return fmt.Errorf("%s of %s is %q; %s", name, o.Ref.Short(), fmt.Sprint(all[name]), want)
		}
		if !text {
			return t, bad("the value of an annotation must be a text, in quotes")
		}
		switch name {
		case StepAnnotation:
			n, err := strconv.Atoi(v)
			if err != nil {
				return t, bad(`it must be a whole number in quotes, such as "-1"`)
			}
			t.Step, t.Stepped = n, true
		case TaskAnnotation:
			t.Task = Task(v)
			if !slices.Contains([]Task{Before, After, OnFail}, t.Task) {
				return t, bad("write before, after or failed")
			}
		case CleanAnnotation:
			t.Clean = Clean(v)
			if !slices.Contains([]Clean{CleanSuccess, CleanAlways, CleanNever}, t.Clean) {
				return t, bad("write success, always or never")
			}
		case GuardAnnotation:
			for _, word := range strings.Split(v, ",") {
				switch strings.TrimSpace(word) {
				case NoPrune:
					t.NoPrune = true
				case NoReplace:
					t.NoReplace = true
				default:
					return t, bad("write no-prune, no-replace or both, with a comma between")
				}
			}
		case ReplaceAnnotation:
			if v != "when-immutable" {
				return t, bad("write when-immutable")
			}
			t.Replace = true
		case SecretFromAnnotation:
			if !o.Ref.Secret() {
				return t, bad("it belongs to a Secret, which takes its keys from a store")
			}
		case SecretFieldsAnnotation:
			for one := range strings.SplitSeq(v, ",") {
				if _, err := ParsePointer(strings.TrimSpace(one)); err != nil {
					return t, bad("write pointers to fields, with commas between, such as /spec/apiKey, /data/settings")
				}
			}
		case ServiceAnnotation: // an exported object bears it
		default:
			return t, fmt.Errorf("%s has the annotation %s, which has no meaning; there are %s", o.Ref.Short(), name,
				strings.Join([]string{StepAnnotation, TaskAnnotation, CleanAnnotation, GuardAnnotation, ReplaceAnnotation, SecretFromAnnotation, SecretFieldsAnnotation}, ", "))
		}
	}
	if _, clean := all[CleanAnnotation]; clean && t.Task == NoTask {
		return t, fmt.Errorf("%s has %s but no %s, so it is no task; write both, or take it away", o.Ref.Short(), CleanAnnotation, TaskAnnotation)
	}
	return t, nil
}
