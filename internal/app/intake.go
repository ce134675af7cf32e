package app

import (
	"context"

	"urgentis/core/alert"
	"urgentis/internal/intake"
)

// TakeAlerts keeps what a source posts under its token. many says that it posted a list. It returns once all is on
// disk.
func (a *App) TakeAlerts(ctx context.Context, source, token string, header func(string) string, body []byte,
) (taken []intake.Taken, many bool, err error) {
	ok, err := a.door.SourceMay(ctx, source, token)
	if err != nil {
		return nil, false, err
	}
	if !ok {
		return nil, false, &Error{Kind: Nobody, Code: "source-token", Says: "the source or its token is unknown"}
	}
	reports, many, err := alert.Read(header, body, now())
	if err != nil {
		return nil, false, invalid("alert", "%s", err)
	}
	taken, err = a.intake.TakeAll(ctx, source, reports)
	return taken, many, err
}
