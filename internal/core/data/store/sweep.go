package store

import (
	"context"
	"fmt"
	"strings"
)

// Sweeper is implemented by actors that carry out Clear for the items of Act.Where
// by themselves, at once.
type Sweeper interface {
	Actor
	// Sweeps does nothing; it says that Plan and Do heed Act.Where.
	Sweeps()
}

// sweepLimit is how many items are deleted one by one at most.
const sweepLimit = 10_000

// PlanAct says what an act would do. With Where, a source that is no Sweeper has the
// items deleted one by one.
func PlanAct(ctx context.Context, source Source, a Act) (Plan, error) {
	actor, keys, err := swept(ctx, source, a)
	if err != nil || keys == nil {
		if err == nil {
			return actor.Plan(ctx, a)
		}
		return Plan{}, err
	}
	const shown = 20
	p := Plan{Loses: fmt.Sprintf("%d of the items of %s", len(keys), a.Collection)}
	lines := make([]string, 0, shown+1)
	for i, key := range keys {
		if i == shown {
			lines = append(lines, fmt.Sprintf("and %d more", len(keys)-shown))
			break
		}
		one, err := actor.Plan(ctx, Act{Collection: a.Collection, Key: key, Action: Delete})
		if err != nil {
			return Plan{}, err
		}
		lines = append(lines, one.Statement)
	}
	p.Statement = strings.Join(lines, "\n")
	return p, nil
}

// DoAct carries an act out, and says what was done. With Where, a source that is no
// Sweeper has the items deleted one by one; an error says how many were.
func DoAct(ctx context.Context, source Source, a Act) (string, error) {
	actor, keys, err := swept(ctx, source, a)
	if err != nil || keys == nil {
		if err == nil {
			return actor.Do(ctx, a)
		}
		return "", err
	}
	for i, key := range keys {
		if _, err := actor.Do(ctx, Act{Collection: a.Collection, Key: key, Action: Delete}); err != nil {
			return "", fmt.Errorf("%d of %d items were deleted, then: %w", i, len(keys), err)
		}
	}
	return fmt.Sprintf("%d deleted", len(keys)), nil
}

// swept returns the keys of the items that an act with Where is about, nil for one
// that the actor carries out itself.
func swept(ctx context.Context, source Source, a Act) (Actor, []string, error) {
	actor, ok := source.(Actor)
	if !ok {
		return nil, nil, ErrNoAction
	}
	if _, sweeps := source.(Sweeper); sweeps || a.Where == "" {
		return actor, nil, nil
	}
	if a.Action != Clear {
		return nil, nil, ErrNoAction
	}
	keys := []string{}
	for q := (Query{Collection: a.Collection, Where: a.Where, Limit: PageLimit}); ; {
		p, err := source.Items(ctx, q)
		switch {
		case err != nil:
			return nil, nil, err
		case p.Fixed != "":
			return nil, nil, &FixedError{Why: p.Fixed}
		}
		for _, r := range p.Rows {
			if r.Key == "" {
				return nil, nil, &FixedError{Why: "nothing tells the items from each other"}
			}
			keys = append(keys, r.Key)
		}
		switch {
		case len(keys) > sweepLimit || p.More && p.Next == "":
			return nil, nil, &FixedError{Why: fmt.Sprintf("these are more than can be deleted one by one (%d); narrow the filter", min(len(keys), sweepLimit))}
		case !p.More:
			return actor, keys, nil
		}
		q.After = p.Next
	}
}
