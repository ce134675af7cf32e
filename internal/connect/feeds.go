package connect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"urgentis/core/calendar"
	"urgentis/core/route"
)

// FetchFeed reads the calendar of a rota, which it gives as it came. What it says of its address never holds a secret.
func (o *Outbox) FetchFeed(ctx context.Context, f *route.Feed) (string, error) {
	address := f.URL
	if f.Secret != "" {
		var err error
		if address, err = o.secrets.Value(ctx, f.Secret); err != nil {
			return "", fmt.Errorf("open its address: %w", err)
		}
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return "", errAddress
	}
	req.Header.Set("Accept", "text/calendar")
	res, err := o.client.Do(req)
	if err != nil {
		return "", withoutAddress(err)
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return "", fmt.Errorf("it answered %s", res.Status)
	}
	body, err := io.ReadAll(io.LimitReader(res.Body, calendar.MaxFeed+1))
	if err != nil {
		return "", fmt.Errorf("its answer broke off: %w", err)
	}
	return string(body), nil
}

// withoutAddress is an error of a call without the address, which may hold a token: what is said goes into the record.
func withoutAddress(err error) error {
	var at *url.Error
	if errors.As(err, &at) {
		return at.Err
	}
	return err
}
