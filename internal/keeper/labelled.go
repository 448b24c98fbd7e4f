package keeper

import (
	"context"
	"log/slog"
)

// labelled is a logger that says something with each line, as With has it. It costs a word until it does: there are very many wards, and With writes
// down for each what it would say.
func labelled(log *slog.Logger, says slog.Attr) *slog.Logger {
	return slog.New(&label{log.Handler(), says})
}

type label struct {
	slog.Handler
	says slog.Attr
}

// Handle is part of slog.Handler.
func (l *label) Handle(ctx context.Context, r slog.Record) error {
	out := slog.NewRecord(r.Time, r.Level, r.Message, r.PC)
	out.AddAttrs(l.says)
	r.Attrs(func(a slog.Attr) bool {
		out.AddAttrs(a)
		return true
	})
	return l.Handler.Handle(ctx, out)
}

// WithAttrs is part of slog.Handler.
func (l *label) WithAttrs(all []slog.Attr) slog.Handler {
	return l.Handler.WithAttrs(append([]slog.Attr{l.says}, all...))
}

// WithGroup is part of slog.Handler.
func (l *label) WithGroup(name string) slog.Handler {
	return l.Handler.WithAttrs([]slog.Attr{l.says}).WithGroup(name)
}
