package identity

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
)

// API asks a provider what Neighbour wants to know of it.
type API struct {
	// Base is the provider's address.
	Base string
	HTTP *http.Client
}

func (c *API) do(ctx context.Context, method, path string, body, to any) error {
	b, err := json.Marshal(body)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, method, c.Base+path, bytes.NewReader(b))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/json")
	resp, err := c.HTTP.Do(r)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		e := &Error{Status: resp.StatusCode}
		if json.NewDecoder(resp.Body).Decode(e) != nil || e.Code == "" {
			return fmt.Errorf("the provider answers %s", resp.Status)
		}
		return e
	}
	return json.NewDecoder(resp.Body).Decode(to)
}

// Overview asks what there is.
func (c *API) Overview(ctx context.Context) (Overview, error) {
	var o Overview
	err := c.do(ctx, http.MethodGet, OverviewPath, nil, &o)
	return o, err
}

// Token asks for tokens of a person, without a sign-in. Its error is an *Error if the provider
// refuses.
func (c *API) Token(ctx context.Context, w Wanted) (Given, error) {
	var g Given
	err := c.do(ctx, http.MethodPost, TokenPath, w, &g)
	return g, err
}

// Rotate has another key sign from now on, and returns its id.
func (c *API) Rotate(ctx context.Context) (string, error) {
	var k struct {
		ID string `json:"kid"`
	}
	err := c.do(ctx, http.MethodPost, RotatePath, struct{}{}, &k)
	return k.ID, err
}

// Revoke ends a grant.
func (c *API) Revoke(ctx context.Context, grant string) error {
	return c.do(ctx, http.MethodPost, EndPath, map[string]string{"grant": grant}, &struct{}{})
}

// Remove removes somebody who has signed up.
func (c *API) Remove(ctx context.Context, sub string) error {
	return c.do(ctx, http.MethodPost, EndPath, map[string]string{"account": sub}, &struct{}{})
}
