package keeper

import (
	"context"
	"errors"
	"io"
	"reflect"
	"time"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/keeper/reading"
	"vigila.dev/vigila/internal/link"
)

// question is something that is asked of a ward where it is kept: here, or by the lookout of its cluster. A is what is asked with, T the answer;
// both are plain values.
type question[A, T any] struct {
	name   string
	answer func(k *Keeper, ctx context.Context, p *placement, a A) (T, error)
}

// of asks it of a ward.
func (q question[A, T]) of(ctx context.Context, k *Keeper, ward string, a A) (out T, err error) {
	p, err := k.one(ward)
	if err != nil {
		return out, err
	}
	return q.ask(ctx, p, a)
}

func (q question[A, T]) ask(ctx context.Context, p *placement, a A) (out T, err error) {
	if p.cluster.away == nil {
		return q.answer(p.k, ctx, p, a)
	}
	args, err := link.Encode(a)
	if err != nil {
		return out, err
	}
	if err := p.ofKept(ctx, "ask:"+q.name, wardAsks{p.ID, args}, &out); err != nil {
		return out, err
	}
	if v := reflect.ValueOf(&out).Elem(); v.Kind() == reflect.Pointer && v.IsNil() {
		return out, fault(Unreachable, "the lookout of %s has no answer to what it was asked of %s (%s)", p.cluster.away.name, p.ID, q.name)
	}
	return out, nil
}

// ofKept asks the lookout something about the ward, once that keeps it.
func (p *placement) ofKept(ctx context.Context, method string, args, into any) error {
	for began := time.Now(); ; {
		err := p.cluster.away.call(ctx, method, args, into)
		if !errors.Is(err, errNotKept) {
			return err
		}
		if time.Since(began) > introduced {
			return fault(Unreachable, "the lookout of %s does not keep %s yet", p.cluster.away.name, p.ID)
		}
		select { // it is being told of it
		case <-ctx.Done():
			return ctx.Err()
		case <-p.ended:
			return fault(NotFound, "ward %s is not kept any more", p.ID)
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// introduced is how long it may take until a lookout keeps a ward that it is told of.
const introduced = 10 * time.Second

// answers are the questions that a lookout is asked, by name.
var answers = map[string]func(ctx context.Context, k *Keeper, a wardAsks) (any, error){}

func asks[A, T any](name string, answer func(k *Keeper, ctx context.Context, p *placement, a A) (T, error)) question[A, T] {
	q := question[A, T]{name, answer}
	answers[name] = func(ctx context.Context, k *Keeper, w wardAsks) (any, error) {
		p, err := k.one(w.Ward)
		if err != nil {
			return nil, errNotKept
		}
		var a A
		if err := link.Decode(w.Args, &a); err != nil {
			return nil, err
		}
		return q.answer(k, ctx, p, a)
	}
	return q
}

// nothingAsked is what a question is asked with that needs nothing.
type nothingAsked struct{}

type (
	askRun struct {
		Ask      Ask
		Declared *reading.Packed // of a revision of its own
	}
	askLog struct {
		Key, Pod, Container string
		Previous            bool
		Tail                int
	}
	askTask struct {
		Number int
		Key    string
	}
	ownedBelow struct {
		Of  object.Ref
		All []cluster.Owned
	}
)

// The questions. They are made before main begins, and not as variables are: some ask others.
var (
	freshOf    question[nothingAsked, *standing.View]
	diffOf     question[nothingAsked, *Preview]
	previewOf  question[askRun, *Preview]
	objectOf   question[string, *ObjectDetail]
	objectsOf  question[nothingAsked, []standing.Object]
	namesOf    question[nothingAsked, []string]
	outlineOf  question[nothingAsked, []ownedBelow]
	logsOf     question[askLog, string]
	taskLogOf  question[askTask, string]
	canaryOf   question[int, *CanaryNow]
	bringingOf question[nothingAsked, Bringing]
	tryingOf   question[*reading.Packed, *Preview]
)

func init() {
	freshOf = asks("fresh", func(_ *Keeper, ctx context.Context, p *placement, _ nothingAsked) (*standing.View, error) {
		err := p.ask(ctx, func() error {
			p.Publish()
			return nil
		})
		return p.View(), err
	})
	diffOf = asks("diff", (*Keeper).diff)
	previewOf = asks("preview", (*Keeper).previewRun)
	objectOf = asks("object", (*Keeper).objectDetail)
	objectsOf = asks("objects", func(_ *Keeper, ctx context.Context, p *placement, _ nothingAsked) (out []standing.Object, err error) {
		err = p.ask(ctx, func() error {
			out = p.Placement.Objects()
			return nil
		})
		return out, err
	})
	namesOf = asks("names", func(_ *Keeper, ctx context.Context, p *placement, _ nothingAsked) (out []string, err error) {
		err = p.ask(ctx, func() error {
			out = p.Placement.Names()
			return nil
		})
		return out, err
	})
	outlineOf = asks("outline", (*Keeper).outline)
	logsOf = asks("logs", (*Keeper).logs)
	taskLogOf = asks("task_log", (*Keeper).taskLog)
	canaryOf = asks("canary", (*Keeper).canary)
	bringingOf = asks("bringing", func(_ *Keeper, ctx context.Context, p *placement, _ nothingAsked) (out Bringing, err error) {
		err = p.ask(ctx, func() error {
			out = p.bringing()
			return nil
		})
		return out, err
	})
	tryingOf = asks("trying", func(k *Keeper, ctx context.Context, p *placement, d *reading.Packed) (*Preview, error) {
		whole, err := p.brought(ctx, d)
		if err != nil {
			return nil, err
		}
		return p.trying(ctx, whole)
	})
}

// brought is a declaration that came from the service, with its objects here.
func (p *placement) brought(ctx context.Context, d *reading.Packed) (*declared.Declaration, error) {
	if d == nil {
		return nil, nil
	}
	return p.k.up.bring(ctx, p, *d)
}

// followOf asks for the log of a task as it grows; it is a question whose answer comes in parts.
func followOf(ctx context.Context, p *placement, a askTask, w io.Writer) error {
	args, err := link.Encode(a)
	if err != nil {
		return err
	}
	return p.cluster.away.stream(ctx, "follow", wardAsks{p.ID, args}, nil, func(part link.Raw) error {
		var b []byte
		if err := link.Decode(part, &b); err != nil {
			return err
		}
		_, err := w.Write(b)
		return err
	})
}
