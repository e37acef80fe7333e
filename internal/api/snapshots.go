package api

import (
	"context"
	"net/http"

	"neighbour/internal/core/data/snapshot"
	"neighbour/internal/core/keeper/keep"
)

// Saving says what a snapshot is to be saved of.
type Saving struct {
	Name     string   `json:"name"`     // "" for one made of the time
	Services []string `json:"services"` // all that keep data if it is empty
}

// Snapshots are those of a project.
type Snapshots struct {
	Snapshots []keep.StoredSnapshot `json:"snapshots"`
	// Wrong says what is wrong with those that can't be read.
	Wrong []string `json:"wrong,omitempty"`
}

var (
	snapshotsEndpoint    = endpoint[none, Snapshots]{method: "GET", path: "/snapshots", summary: "The snapshots of the services' data, the newest first"}
	saveSnapshotEndpoint = endpoint[Saving, snapshot.Manifest]{method: "POST", path: "/snapshots", refusal: 422, summary: "Save the data of services as it is at one moment",
		details: "The answer comes when it is saved; how far it is, is in the operations."}
	restoringEndpoint = endpoint[Names, []keep.Loss]{method: "POST", path: "/snapshots/{name}/loss", refusal: 422, summary: "What restoring a snapshot would replace"}
	restoreEndpoint   = endpoint[Names, keep.Restored]{method: "POST", path: "/snapshots/{name}/restore", refusal: 422, summary: "Put the data of a snapshot in the place of what services hold",
		details: "What reads them is stopped for it. The answer comes when it has begun to start again; what was replaced is the snapshot \"replaced\" then."}
	branchesEndpoint     = endpoint[none, keep.BranchData]{method: "GET", path: "/branches", refusal: 422, summary: "Of which git branch the data is, and the data that is kept for others"}
	switchBranchEndpoint = endpoint[Switching, keep.Switched]{method: "POST", path: "/branches", refusal: 422, summary: "Switch to the data of the branch that is checked out",
		details: "What reads the data is stopped for it, and begins to start again before the answer. With keep nothing is replaced: the data is that branch's from now on."}
	dropSnapshotEndpoint = endpoint[none, Done]{method: "DELETE", path: "/snapshots/{name}", refusal: 422, summary: "Delete a snapshot"}
)

// Switching says how the data follows a checkout.
type Switching struct {
	Keep bool `json:"keep"` // what services hold is taken along
}

func (s *Server) handleSnapshots() {
	handle(s, branchesEndpoint, func(*http.Request, none) (keep.BranchData, func(), error) {
		b, err := s.keeper.Branches()
		return b, nil, err
	})
	handle(s, switchBranchEndpoint, func(r *http.Request, in Switching) (keep.Switched, func(), error) {
		if in.Keep {
			d, err := s.keeper.KeepData(asked(r))
			return d, nil, err
		}
		d, err := s.keeper.SwitchBranch(asked(r))
		return d, nil, err
	})
	handle(s, snapshotsEndpoint, func(*http.Request, none) (Snapshots, func(), error) {
		all, wrong := s.keeper.Snapshots()
		return Snapshots{all, wrong}, nil, nil
	})
	handle(s, saveSnapshotEndpoint, func(r *http.Request, in Saving) (snapshot.Manifest, func(), error) {
		m, err := s.keeper.SaveSnapshot(asked(r), in.Name, in.Services...)
		if err != nil {
			return snapshot.Manifest{}, nil, err
		}
		return m.Public(), nil, nil
	})
	handle(s, restoringEndpoint, func(r *http.Request, n Names) ([]keep.Loss, func(), error) {
		out, err := s.keeper.Restoring(r.Context(), r.PathValue("name"), n.Services...)
		return out, nil, err
	})
	handle(s, restoreEndpoint, func(r *http.Request, n Names) (keep.Restored, func(), error) {
		out, err := s.keeper.RestoreSnapshot(asked(r), r.PathValue("name"), n.Services...)
		return out, nil, err
	})
	handle(s, dropSnapshotEndpoint, func(r *http.Request, _ none) (Done, func(), error) {
		return Done{}, nil, s.keeper.DropSnapshot(r.Context(), r.PathValue("name"))
	})
}

// Snapshots lists the snapshots.
func (c *Client) Snapshots(ctx context.Context) (Snapshots, error) {
	return call(ctx, c, snapshotsEndpoint, none{})
}

// SaveSnapshot saves the data of services, of all that keep any if none is named, and returns when
// that is done.
func (c *Client) SaveSnapshot(ctx context.Context, name string, services ...string) (snapshot.Manifest, error) {
	return call(ctx, c, saveSnapshotEndpoint, Saving{name, services})
}

// Restoring tells what restoring a snapshot would replace.
func (c *Client) Restoring(ctx context.Context, name string, services ...string) ([]keep.Loss, error) {
	return call(ctx, c, restoringEndpoint, Names{Services: services}, name)
}

// RestoreSnapshot puts the data of a snapshot in the place of what services hold, and returns when
// what was stopped for it has begun to start again.
func (c *Client) RestoreSnapshot(ctx context.Context, name string, services ...string) (keep.Restored, error) {
	return call(ctx, c, restoreEndpoint, Names{Services: services}, name)
}

// DropSnapshot deletes a snapshot.
func (c *Client) DropSnapshot(ctx context.Context, name string) error {
	_, err := call(ctx, c, dropSnapshotEndpoint, none{}, name)
	return err
}

// SwitchBranch switches to the data of the git branch that is checked out, or with take takes along
// what services hold.
func (c *Client) SwitchBranch(ctx context.Context, take bool) (keep.Switched, error) {
	return call(ctx, c, switchBranchEndpoint, Switching{take})
}
