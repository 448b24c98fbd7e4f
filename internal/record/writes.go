package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"vigila.dev/vigila/internal/core/audit"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
)

// Write is one change to what the record holds of a placement: a plain value, for Commit.
type Write interface {
	to(ctx context.Context, t *writing) error
}

// Commit makes some changes to what the record holds of a placement, in their order: all of them, or none.
func (s *Store) Commit(ctx context.Context, id string, writes ...Write) error {
	return s.tx(ctx, func(tx *transaction) error {
		t := &writing{s, tx, id}
		for _, w := range writes {
			if err := w.to(ctx, t); err != nil {
				return &NotWrittenError{fmt.Sprintf("%T", w), err}
			}
			if err := t.mirror(ctx, w); err != nil {
				return err
			}
		}
		return nil
	})
}

// NotWrittenError is a change that the database did not take: its text is the database's, What says which change it was.
type NotWrittenError struct {
	What string
	Err  error
}

func (e *NotWrittenError) Error() string { return e.Err.Error() }
func (e *NotWrittenError) Unwrap() error { return e.Err }

// writing is a transaction about one placement.
type writing struct {
	store *Store
	tx    *transaction
	id    string
}

func (t *writing) exec(ctx context.Context, query string, args ...any) error {
	return t.tx.exec(ctx, query, args...)
}

// baseline keeps one baseline.
func (t *writing) baseline(ctx context.Context, b compare.Baseline) error {
	row, err := baselineRow(t.id, b)
	if err == nil {
		err = t.exec(ctx, putBaseline, row...)
	}
	return err
}

// AddEntry writes a new entry under its number.
type AddEntry struct{ Entry logbook.Entry }

func (w AddEntry) to(ctx context.Context, t *writing) error {
	e, revision := w.Entry, ""
	if e.Revision != nil {
		revision = toJSON(e.Revision)
	}
	return t.exec(ctx, `INSERT INTO entries (`+entryColumns+`) VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?)`, t.id, e.Number, e.Kind, e.Outcome, e.By, e.Why, e.Reason,
		revision, e.ToEntry, ms(e.Started), ms(e.Ended), e.Snapshot, toJSON(nonNil(e.Objects)))
}

// EndEntry writes how an entry ended.
type EndEntry struct{ Entry logbook.Entry }

func (w EndEntry) to(ctx context.Context, t *writing) error {
	e := w.Entry
	if err := t.exec(ctx, `UPDATE entries SET outcome=?, reason=?, ended=?, objects=? WHERE placement=? AND number=?`, e.Outcome, e.Reason, ms(e.Ended), toJSON(nonNil(e.Objects)), t.id, e.Number); err != nil {
		return err
	}
	return addAudit(ctx, t.tx, runAudit(t.id, e))
}

// runAudit is what the account of what was done says of a run that ended: it is kept longer than logbooks are.
func runAudit(id string, e logbook.Entry) *audit.Entry {
	out := &audit.Entry{At: e.Ended, By: e.By, Verb: string(e.Kind), Of: "ward", Name: id, With: map[string]string{"entry": fmt.Sprintf("#%d", e.Number)}, Outcome: audit.Done, Why: e.Reason}
	if string(e.Outcome) != string(audit.Done) {
		out.Outcome, out.With["outcome"] = audit.Failed, string(e.Outcome)
	}
	if out.Why == "" {
		out.Why = e.Why
	}
	if e.Revision != nil {
		out.With["revision"] = e.Revision.ID
	}
	if e.ToEntry > 0 {
		out.With["to_entry"] = fmt.Sprintf("#%d", e.ToEntry)
	}
	return out
}

// SetOutcome changes the outcome of an entry that ended: failed becomes rolled back.
type SetOutcome struct {
	Number  int
	Outcome logbook.Outcome
}

func (w SetOutcome) to(ctx context.Context, t *writing) error {
	return t.exec(ctx, `UPDATE entries SET outcome=? WHERE placement=? AND number=?`, w.Outcome, t.id, w.Number)
}

// RemoveEntry takes back an entry that turned out to be worth no line.
type RemoveEntry struct{ Number int }

func (w RemoveEntry) to(ctx context.Context, t *writing) error {
	return t.exec(ctx, `DELETE FROM entries WHERE placement=? AND number=?`, t.id, w.Number)
}

// PutLog keeps the log of a task with the entry of its run, encrypted.
type PutLog struct {
	Number int
	Ref    object.Ref
	Text   string
}

func (w PutLog) to(ctx context.Context, t *writing) error {
	body, err := pack(w.Text)
	if err == nil {
		body, err = t.store.vault.Seal(body)
	}
	if err != nil {
		return err
	}
	return t.exec(ctx, `INSERT OR REPLACE INTO logs VALUES (?,?,?,?)`, t.id, w.Number, w.Ref.Key(), body)
}

// SetHold holds a placement, or releases it when Hold is nil.
type SetHold struct{ Hold *logbook.Hold }

func (w SetHold) to(ctx context.Context, t *writing) error {
	return t.exec(ctx, `UPDATE placements SET hold=? WHERE id=?`, orNothing(w.Hold), t.id)
}

// SetLeaving notes that a placement is being removed, or with nil that it is not.
type SetLeaving struct{ Leaving *logbook.Leaving }

func (w SetLeaving) to(ctx context.Context, t *writing) error {
	return t.exec(ctx, `UPDATE placements SET leaving=? WHERE id=?`, orNothing(w.Leaving), t.id)
}

// orNothing is a value as JSON; "" when there is none.
func orNothing[T any](v *T) string {
	if v == nil {
		return ""
	}
	return toJSON(v)
}

// SetApplied notes what a placement holds now as a whole, and which tasks belong to it: by key, to their hashes.
type SetApplied struct {
	Revision logbook.Revision
	Snapshot string
	Tasks    map[string]string
}

func (w SetApplied) to(ctx context.Context, t *writing) error {
	tasks := w.Tasks
	if tasks == nil {
		tasks = map[string]string{}
	}
	if err := t.exec(ctx, `UPDATE placements SET applied=?, snapshot=?, tasks=? WHERE id=?`, toJSON(w.Revision), w.Snapshot, toJSON(tasks), t.id); err != nil {
		return err
	}
	return t.exec(ctx, `UPDATE baselines SET snapshot='' WHERE placement=? AND snapshot<>''`, t.id)
}

// SetRules keeps the health and checks files that a placement read last.
type SetRules struct{ Files []declared.File }

func (w SetRules) to(ctx context.Context, t *writing) error {
	return t.exec(ctx, `UPDATE placements SET rules=? WHERE id=?`, toJSON(w.Files), t.id)
}

// PutTask keeps an object of a task, before it is made and again after.
type PutTask struct{ Task TaskObject }

func (w PutTask) to(ctx context.Context, t *writing) error {
	return t.exec(ctx, `INSERT OR REPLACE INTO task_objects VALUES (?,?,?,?)`, t.id, w.Task.Ref.Key(), w.Task.Version, w.Task.UID)
}

// RemoveTask forgets an object of a task that is gone.
type RemoveTask struct{ Ref object.Ref }

func (w RemoveTask) to(ctx context.Context, t *writing) error {
	return t.exec(ctx, `DELETE FROM task_objects WHERE placement=? AND ref=?`, t.id, w.Ref.Key())
}

// Reject marks a revision as bad; Unreject lifts it.
type Reject struct{ Rejection logbook.Rejection }

func (w Reject) to(ctx context.Context, t *writing) error {
	r := w.Rejection
	return t.exec(ctx, `INSERT INTO rejections (placement, revision, subject, why, by, at, declared) VALUES (?,?,?,?,?,?,?)
		ON CONFLICT DO UPDATE SET subject=excluded.subject, why=excluded.why, by=excluded.by, at=excluded.at, declared=excluded.declared`, t.id, r.Revision, r.Subject, r.Why, r.By, ms(r.At), r.Declared)
}

// Unreject lifts a rejection.
type Unreject struct{ Revision string }

func (w Unreject) to(ctx context.Context, t *writing) error {
	return t.exec(ctx, `DELETE FROM rejections WHERE placement=? AND revision=?`, t.id, w.Revision)
}

// AddStanding notes a change of standing.
type AddStanding struct{ Stretch logbook.Stretch }

func (w AddStanding) to(ctx context.Context, t *writing) error {
	return t.exec(ctx, `INSERT INTO standings VALUES (?,?,?,?)`, t.id, ms(w.Stretch.From), w.Stretch.Standing, w.Stretch.Health)
}

// PutBaselines keeps what was applied, with its details.
type PutBaselines struct{ All []compare.Baseline }

func (w PutBaselines) to(ctx context.Context, t *writing) error {
	for _, b := range w.All {
		if err := t.baseline(ctx, b); err != nil {
			return err
		}
	}
	return nil
}

// Claim notes what the run of an entry is about to apply, beside what is in doubt since an earlier one: of what is kept already
// that it is (all with a UID), else a baseline without detail. Objects that another ward of the cluster keeps are left out
// and put into Refused, with that ward. Two wards that claim one object at the same moment can't both have it.
type Claim struct {
	Cluster string
	Number  int
	All     []compare.Baseline
	Refused map[object.Ref]string
}

func (w Claim) to(ctx context.Context, t *writing) error {
	keys := make([]string, len(w.All))
	for i, b := range w.All {
		keys[i] = b.Ref.Key()
	}
	list := toJSON(keys)
	other := map[string]string{}
	if err := pairs(ctx, t.tx, other, `SELECT b.ref, p.ward FROM baselines b JOIN placements p ON p.id=b.placement
		WHERE b.ref IN (SELECT value FROM json_each(?)) AND p.cluster=? AND p.id<>?`, list, w.Cluster, t.id); err != nil {
		return err
	}
	had := map[string]string{}
	if err := pairs(ctx, t.tx, had, `SELECT ref, '' FROM baselines WHERE placement=? AND ref IN (SELECT value FROM json_each(?))`, t.id, list); err != nil {
		return err
	}
	doing, err := doubts(ctx, t.tx, t.id)
	if err != nil {
		return err
	}
	doing = append(doing, keys...)
	slices.Sort(doing)
	if err := t.exec(ctx, `UPDATE placements SET intents=? WHERE id=?`, toJSON(intents{w.Number, slices.Compact(doing)}), t.id); err != nil {
		return err
	}
	clear(w.Refused)
	for i, b := range w.All {
		if ward, kept := other[keys[i]]; kept {
			w.Refused[b.Ref] = ward
			continue
		}
		if _, kept := had[keys[i]]; kept {
			continue
		}
		b.Intent, b.Detail = w.Number, nil
		if err := t.baseline(ctx, b); err != nil {
			return err
		}
	}
	return nil
}

// doubts are the keys of the objects that may have been applied without an answer.
func doubts(ctx context.Context, tx *transaction, id string) ([]string, error) {
	var text string
	if err := tx.row(ctx, []any{&text}, `SELECT intents FROM placements WHERE id=?`, id); err != nil || text == "" {
		return nil, err
	}
	var doing intents
	err := json.Unmarshal([]byte(text), &doing)
	return doing.Refs, err
}

// pairs reads rows of two texts.
func pairs(ctx context.Context, tx *transaction, into map[string]string, query string, args ...any) error {
	return each(ctx, tx, func(row *sql.Rows) error {
		var k, v string
		err := row.Scan(&k, &v)
		into[k] = v
		return err
	}, query, args...)
}

// Doubt notes that it is not known what is there of an object: it was about to be applied, and no answer came.
type Doubt struct{ Refs []object.Ref }

func (w Doubt) to(ctx context.Context, t *writing) error {
	for _, ref := range w.Refs {
		if err := t.exec(ctx, `UPDATE baselines SET declared='', hash='', size=0, guards='', owned=x'', fields=x'' WHERE placement=? AND ref=?`, t.id, ref.Key()); err != nil {
			return err
		}
	}
	return nil
}

// SettleIntents notes that the run of an entry has ended, and which objects are still in doubt: they were about to be
// applied when the service was killed, and nobody has applied or removed them since.
type SettleIntents struct {
	Number   int
	Doubtful []object.Ref
}

func (w SettleIntents) to(ctx context.Context, t *writing) error {
	text := ""
	if len(w.Doubtful) > 0 {
		keys := make([]string, len(w.Doubtful))
		for i, ref := range w.Doubtful {
			keys[i] = ref.Key()
		}
		text = toJSON(intents{w.Number, keys})
	}
	if err := t.exec(ctx, `UPDATE placements SET intents=? WHERE id=?`, text, t.id); err != nil {
		return err
	}
	return t.exec(ctx, `UPDATE baselines SET intent=0 WHERE placement=? AND intent<>0`, t.id)
}

// RemoveBaseline forgets an object that is gone, but for its uid (Removed), and for others that it had.
type RemoveBaseline struct {
	Ref  object.Ref
	UIDs []string
	At   time.Time
}

func (w RemoveBaseline) to(ctx context.Context, t *writing) error {
	for _, uid := range w.UIDs {
		if err := t.exec(ctx, `INSERT OR REPLACE INTO removed VALUES (?,?,?)`, t.id, uid, w.At.Unix()); err != nil {
			return err
		}
	}
	if err := t.exec(ctx, `INSERT OR REPLACE INTO removed SELECT placement, uid, ? FROM baselines WHERE placement=? AND ref=? AND uid<>''`, w.At.Unix(), t.id, w.Ref.Key()); err != nil {
		return err
	}
	return t.exec(ctx, `DELETE FROM baselines WHERE placement=? AND ref=?`, t.id, w.Ref.Key())
}

// AddRestores notes what a run put back.
type AddRestores struct{ All []logbook.Restored }

func (w AddRestores) to(ctx context.Context, t *writing) error {
	for _, r := range w.All {
		if err := t.exec(ctx, `INSERT INTO restores VALUES (?,?,?,?,?)`, t.id, r.Ref.Key(), r.Path, r.Who, ms(r.At)); err != nil {
			return err
		}
	}
	return nil
}

// ForgetRestores drops what was noted about some objects.
type ForgetRestores struct{ Refs []object.Ref }

func (w ForgetRestores) to(ctx context.Context, t *writing) error {
	for _, ref := range w.Refs {
		if err := t.exec(ctx, `DELETE FROM restores WHERE placement=? AND ref=?`, t.id, ref.Key()); err != nil {
			return err
		}
	}
	return nil
}

// HandOver notes that an object bears the ward's mark and is to be looked for: it was handed over to another ward, which has still to come
// for it, or it is there again with data of the cluster that were put back. Fetched is that somebody has come, or that the
// object is gone.
type HandOver struct {
	Ref     object.Ref
	Version string
}

func (w HandOver) to(ctx context.Context, t *writing) error {
	return t.exec(ctx, `INSERT OR REPLACE INTO handed VALUES (?,?,?)`, t.id, w.Ref.Key(), w.Version)
}

// Fetched is the end of a HandOver.
type Fetched struct{ Ref object.Ref }

func (w Fetched) to(ctx context.Context, t *writing) error {
	return t.exec(ctx, `DELETE FROM handed WHERE placement=? AND ref=?`, t.id, w.Ref.Key())
}
