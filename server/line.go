package server

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"

	"rudmar/core/delivery"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/resource"
	"rudmar/engine/observe"
	"rudmar/engine/source"
	"rudmar/engine/store"
	"rudmar/server/api"
)

// view is what the pages of one service are made from.
type view struct {
	service    store.Service
	head       source.Commit
	branch     string
	manifests  *manifest.Service // of the newest version, or of the head where there is none; may be nil
	newest     int
	places     []store.Stage
	deliveries []store.Delivery
	looks      map[manifest.Place]observe.Look
}

func (h *handlers) view(ctx context.Context, name string) (*view, error) {
	v := &view{}
	var err error
	if v.service, err = h.engine.Store.Service(ctx, name); err != nil {
		return nil, fmt.Errorf("the service %s: %w", name, err)
	}
	repo := h.engine.Host.Repository(v.service.Repository)
	if v.branch, err = repo.Main(ctx); err != nil {
		return nil, err
	}
	if v.head, err = repo.Commit(ctx, "refs/heads/"+v.branch); err != nil && !errors.Is(err, source.ErrNoCommit) {
		return nil, err
	}
	versions, err := h.engine.Store.Versions(ctx, name)
	if err != nil {
		return nil, err
	}
	if len(versions) > 0 {
		v.newest = versions[0].Number
		v.manifests, _, err = h.engine.Planner.Service(ctx, name, v.newest)
	} else if v.head.Hash != "" {
		var checked source.Checked
		checked, err = repo.Check(ctx, h.engine.Checks.Offers(ctx), v.head.Hash, v.service.Dir)
		v.manifests = checked.Result.Service
	}
	if err != nil {
		return nil, err
	}
	if v.places, err = h.engine.Store.Stages(ctx, name); err != nil {
		return nil, err
	}
	if v.deliveries, err = h.engine.Store.Deliveries(ctx, name); err != nil {
		return nil, err
	}
	v.looks, err = h.engine.Watch.Looks(ctx, name)
	return v, err
}

func (v *view) stages() []manifest.Stage {
	if v.manifests == nil {
		return nil
	}
	return v.manifests.Stages
}

// at gives the records of a stage's targets.
func (v *view) at(stage string) []store.Stage {
	var out []store.Stage
	for _, p := range v.places {
		if p.Stage == stage {
			out = append(out, p)
		}
	}
	return out
}

// versionIn gives the version that runs in a stage: the least where targets differ.
func (v *view) versionIn(stage string) (version int, since int64) {
	for i, p := range v.at(stage) {
		if i == 0 || p.Version < version {
			version = p.Version
		}
		if !p.Since.IsZero() {
			since = max(since, p.Since.UnixMilli())
		}
	}
	return version, since
}

func (h *handlers) GetLine(ctx context.Context, r api.GetLineRequestObject) (api.GetLineResponseObject, error) {
	v, err := h.view(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	out := api.Line{Service: r.Service, Stages: []api.Station{}, Running: []api.Deployment{}, Simulated: h.options.Simulated}
	if v.manifests != nil {
		out.About = optional(v.manifests.About)
	}
	if out.Source, err = h.sourceHead(ctx, v); err != nil {
		return nil, err
	}
	for i := range v.stages() {
		s, err := h.station(ctx, v, &v.stages()[i])
		if err != nil {
			return nil, err
		}
		out.Stages = append(out.Stages, s)
	}
	running, err := h.engine.Store.RunningDeployments(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range running {
		out.Running = append(out.Running, deploymentOf(d))
	}
	return api.GetLine200JSONResponse(out), nil
}

func headOf(c source.Commit, branch string) api.SourceHead {
	return api.SourceHead{Branch: branch, Hash: c.Hash, Author: c.Author, Message: c.Message, At: c.At.UnixMilli()}
}

// sourceHead says what the newest commit is, and whether it is built.
func (h *handlers) sourceHead(ctx context.Context, v *view) (api.SourceHead, error) {
	if v.head.Hash == "" {
		return api.SourceHead{Branch: v.branch, State: "empty"}, nil
	}
	out := headOf(v.head, v.branch)
	b, err := h.engine.Store.LatestBuild(ctx, v.service.Name)
	switch {
	case errors.Is(err, store.ErrNotFound):
		out.State = "not taken"
		return out, nil
	case err != nil:
		return out, err
	case b.Hash != v.head.Hash:
		out.State = "not taken"
	case b.State == "queued":
		out.State = "building"
	case b.State == "failed" || b.State == "cancelled":
		out.State, out.Why = b.State, optional(b.Why)
	default:
		out.State, out.Version = "built", &b.Version
	}
	return out, nil
}

func (h *handlers) station(ctx context.Context, v *view, stage *manifest.Stage) (api.Station, error) {
	s := api.Station{Stage: stage.Name, Targets: []string{}}
	for _, t := range stage.Targets {
		s.Targets = append(s.Targets, t.String())
	}
	s.Version, s.Since = v.versionIn(stage.Name)
	var versions []int
	failing := map[string]bool{}
	for _, p := range v.at(stage.Name) {
		versions = append(versions, p.Version)
		look := v.looks[p.Place]
		s.Drifted += len(look.Drift)
		if look.Error != "" {
			s.Problem = &look.Error
		}
		for fn, f := range look.Functions {
			if f.Errors > 0 {
				failing[fn] = true
			}
		}
	}
	s.Failing = len(failing)
	sort.Ints(versions)
	if len(slices.Compact(versions)) > 1 {
		s.Versions = &versions
	}
	s.State = "settled"
	if s.Version == 0 {
		s.State = "empty"
	}
	newest := true
	for _, d := range v.deliveries { // newest version first
		if d.Stage != stage.Name {
			continue
		}
		switch {
		case delivery.Moving(d.State):
			s.State = string(d.State)
			s.Why = optional(fmt.Sprintf("version %d", d.Version))
		case d.State == delivery.Stopped && newest && d.Version >= s.Version:
			s.State = string(d.State)
			s.Why = optional(fmt.Sprintf("version %d: %s", d.Version, d.Why))
		case d.State == delivery.Waiting && d.Version > s.Version:
			if err := h.wait(ctx, &s, d); err != nil {
				return s, err
			}
		}
		newest = newest && d.State == delivery.Waiting
	}
	return s, nil
}

// wait counts a waiting version in and, for the newest that got this far, tells how its gates stand.
func (h *handlers) wait(ctx context.Context, s *api.Station, d store.Delivery) error {
	gates, err := h.engine.Line.Gates(ctx, d)
	if err != nil {
		return err
	}
	for _, g := range gates {
		if g.Kind == "before" && g.State == delivery.Fails {
			return nil
		}
	}
	s.Waiting++
	arrived := !slices.ContainsFunc(gates, func(g delivery.Gate) bool { return g.Kind == "before" && g.State != delivery.Holds })
	if s.Next == nil || arrived && s.Next.State != "arrived" {
		s.Next = &api.NextIn{Version: d.Version, Summary: delivery.Summary(gates), State: map[bool]string{true: "arrived", false: "on its way"}[arrived]}
	}
	return nil
}

func (h *handlers) GetBoard(ctx context.Context, r api.GetBoardRequestObject) (api.GetBoardResponseObject, error) {
	v, err := h.view(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	out := api.Board{Stages: []string{}, Rows: []api.BoardRow{}, Needs: []api.Need{}}
	rows := map[string]*api.BoardRow{}
	if v.manifests != nil {
		for _, fn := range v.manifests.Functions {
			row := &api.BoardRow{Function: fn.Name, About: optional(fn.About), Triggers: []string{}}
			for _, t := range fn.At("").Triggers {
				row.Triggers = append(row.Triggers, triggerText(t))
			}
			rows[fn.Name] = row
		}
	}
	for _, stage := range v.stages() {
		out.Stages = append(out.Stages, stage.Name)
		if err := h.cells(ctx, v, stage, rows); err != nil {
			return nil, err
		}
	}
	for _, row := range rows {
		out.Rows = append(out.Rows, *row)
	}
	sort.Slice(out.Rows, func(i, j int) bool { return out.Rows[i].Function < out.Rows[j].Function })
	out.Needs, err = h.needs(ctx, v)
	return api.GetBoard200JSONResponse(out), err
}

func triggerText(t manifest.Trigger) string {
	text := string(t.Kind)
	switch t.Kind {
	case manifest.RouteTrigger:
		text = t.Route.V.String()
	case manifest.CronTrigger:
		text = "cron " + t.Cron.V
	case manifest.EveryTrigger:
		text = "every " + language.FormatTime(t.Every.V)
	default:
		source, _ := t.Source.V.Literal()
		text += " " + source
	}
	if t.Off.V {
		text += " (off)"
	}
	return text
}

// cells fills in a stage's column.
func (h *handlers) cells(ctx context.Context, v *view, stage manifest.Stage, rows map[string]*api.BoardRow) error {
	cells := map[string]*api.BoardCell{}
	for _, t := range stage.Targets {
		place := manifest.Place{Service: v.service.Name, Stage: stage.Name, Target: t}
		record, err := h.engine.Store.Record(ctx, place)
		if err != nil {
			return err
		}
		look := v.looks[place]
		for _, rec := range record {
			cell := cells[rec.Function]
			if cell == nil {
				cell = &api.BoardCell{Stage: stage.Name, There: true}
				cells[rec.Function] = cell
			}
			h.fill(cell, rec, look)
		}
		for _, d := range look.Drift {
			if cell := cells[d.Function]; cell != nil {
				cell.Drifted = optional(true)
			}
		}
	}
	there, _ := v.versionIn(stage.Name)
	behind, err := h.engine.Store.ChangedAfter(ctx, v.service.Name, there)
	if err != nil {
		return err
	}
	for fn, cell := range cells {
		cell.Behind = optional(behind[fn])
		if rows[fn] == nil { // taken out of the manifests, but still there
			rows[fn] = &api.BoardRow{Function: fn, Triggers: []string{}}
		}
	}
	for fn, row := range rows {
		for len(row.Cells) < h.column(v, stage.Name) {
			row.Cells = append(row.Cells, api.BoardCell{Stage: v.stages()[len(row.Cells)].Name})
		}
		if cell := cells[fn]; cell != nil {
			row.Cells = append(row.Cells, *cell)
		} else {
			row.Cells = append(row.Cells, api.BoardCell{Stage: stage.Name})
		}
	}
	return nil
}

func (h *handlers) column(v *view, stage string) int {
	return slices.IndexFunc(v.stages(), func(s manifest.Stage) bool { return s.Name == stage })
}

func (h *handlers) fill(cell *api.BoardCell, rec store.Recorded, look observe.Look) {
	switch rec.Kind {
	case resource.Revision:
		cell.Version, cell.At = &rec.Version, optional(rec.ChangedAt.UnixMilli())
	case resource.Function:
		memory, _ := rec.Attributes["memory"].(float64)
		cell.MemoryLimit = optional(int64(memory))
		f := look.Functions[rec.Function]
		cell.Calls, cell.Errors = optional(orZero(cell.Calls)+f.Calls), optional(orZero(cell.Errors)+f.Errors)
		cell.MemoryPeak = optional(max(orZero(cell.MemoryPeak), f.MemoryPeak))
	}
}

// needs lists what somebody has to look at.
func (h *handlers) needs(ctx context.Context, v *view) ([]api.Need, error) {
	out := []api.Need{}
	add := func(kind api.NeedKind, stage, path, format string, args ...any) {
		out = append(out, api.Need{Kind: kind, Text: fmt.Sprintf(format, args...), Path: path, Stage: optional(stage)})
	}
	head, err := h.sourceHead(ctx, v)
	if err != nil {
		return nil, err
	}
	if head.State == "failed" {
		add(api.NeedKindBuild, "", "source", "The newest commit could not be built: %s", orZero(head.Why))
	}
	for _, stage := range v.stages() {
		there, _ := v.versionIn(stage.Name)
		asked := false
		for _, d := range v.deliveries {
			if d.Stage != stage.Name || d.Version < there {
				continue
			}
			path := fmt.Sprintf("deliveries/%d/%s", d.Version, stage.Name)
			if d.State == delivery.Stopped {
				add(api.NeedKindStopped, stage.Name, path, "Version %d stopped in %s: %s", d.Version, stage.Name, d.Why)
			}
			if d.State == delivery.Waiting {
				gates, err := h.engine.Line.Gates(ctx, d)
				if err != nil {
					return nil, err
				}
				if text := wantsSomebody(gates); text != "" && !asked {
					asked = true // an older version is overtaken by this one
					add(api.NeedKindApproval, stage.Name, path, "Version %d %s, to enter %s", d.Version, text, stage.Name)
				}
			}
		}
		for _, p := range v.at(stage.Name) {
			h.needsOfLook(v.looks[p.Place], p.Place, add)
		}
	}
	return out, nil
}

// wantsSomebody says what a version that got this far waits for from people.
func wantsSomebody(gates []delivery.Gate) string {
	var out []string
	for _, g := range gates {
		switch {
		case g.Kind == "before" && g.State != delivery.Holds:
			return ""
		case (g.Kind == "approvals" || g.Kind == "request") && g.State == delivery.Waits:
			out = append(out, g.Why)
		}
	}
	return strings.Join(out, "; ")
}

func (h *handlers) needsOfLook(look observe.Look, p manifest.Place, add func(kind api.NeedKind, stage, path, format string, args ...any)) {
	if look.Error != "" {
		add(api.NeedKindPlatform, p.Stage, "board", "%s on %s cannot be seen: %s", p.Stage, p.Target, look.Error)
	}
	drifted := map[string]int{}
	var order []string
	for _, d := range look.Drift {
		if drifted[d.Function] == 0 {
			order = append(order, d.Function)
		}
		drifted[d.Function]++
	}
	for _, fn := range order {
		add(api.NeedKindDrift, p.Stage, "plan?stage="+p.Stage, "%s was changed by hand in %s on %s", fn, p.Stage, p.Target)
	}
	for _, fn := range slices.Sorted(maps.Keys(look.Parked)) {
		messages := "messages of %s failed five times and are parked in %s"
		if look.Parked[fn] == 1 {
			messages = "message of %s failed five times and is parked in %s"
		}
		add(api.NeedKindParked, p.Stage, "functions/"+fn+"/messages?stage="+p.Stage, "%d "+messages, look.Parked[fn], fn, p.Stage)
	}
	names := make([]string, 0, len(look.Functions))
	for fn := range look.Functions {
		names = append(names, fn)
	}
	sort.Strings(names)
	for _, fn := range names {
		if f := look.Functions[fn]; f.Errors > 0 {
			add(api.NeedKindErrors, p.Stage, "functions/"+fn+"?stage="+p.Stage, "%s failed %d of %d calls in %s in the last hour", fn, f.Errors, f.Calls, p.Stage)
		}
	}
}
