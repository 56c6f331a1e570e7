package demo

import (
	"context"
	"fmt"
	"net/http"
	"os"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
)

// The third repository of the demo, in three languages, whose shop is frozen.
const (
	boxesRepository = "boxes"
	boxesService    = "boxes"
)

// boxes builds the third service: a version that a freeze blocks, and one that a rule rejects. Several commits
// arrive in one push.
func (b *builder) boxes(ctx context.Context) error {
	if err := b.begin(ctx); err != nil {
		return err
	}
	defer os.RemoveAll(b.dir)
	for i, commits := range [][]commit{
		{
			{step: "01-orders", author: "sorrel", message: "Take orders of boxes", daysAgo: 21},
			{step: "02-sizes", author: "wren", message: "Add the size of the boxes to an order", daysAgo: 18},
			{step: "03-label", author: "sorrel", message: "Print labels for boxes", daysAgo: 14},
		},
		{
			{step: "04-weigh", author: "sorrel", message: "Weigh boxes with the scales", daysAgo: 9},
			{step: "05-list", author: "wren", message: "List the boxes to pack each morning", daysAgo: 7},
		},
		{
			{step: "06-freeze", author: "wren", message: "Freeze the shop on crate days", daysAgo: 4},
			{step: "07-words", author: "sorrel", message: "Shorten the log line of an order", daysAgo: 3},
		},
		{{step: "08-paper", author: "sorrel", message: "Move labels to an address of their own", daysAgo: 0.5}},
	} {
		for _, c := range commits {
			if err := b.commit(ctx, "boxes/"+c.step, c); err != nil {
				return fmt.Errorf("%s: %w", c.step, err)
			}
		}
		if err := b.pushAll(ctx, commits[len(commits)-1].author); err != nil {
			return err
		}
		if err := b.settled(ctx, i+1, "trial"); err != nil {
			return err
		}
		want := []delivery.State{delivery.Settled, delivery.Settled, delivery.Waiting, delivery.Waiting}[i]
		if err := b.reaches(ctx, i+1, "shop", want, func() error { return nil }); err != nil {
			return err
		}
	}
	routes, err := b.routes(ctx, manifest.PlaceOf(boxesService, "shop", "local/north"), "route/order/place", "/orders")
	if err != nil {
		return err
	}
	for i, name := range []string{"quince", "medlar", "damson", "quince"} {
		if err := send(ctx, http.MethodPost, routes+"/orders", fmt.Sprintf(`{"boxes": %d, "for": %q}`, 2+3*i, name)); err != nil {
			return err
		}
	}
	return nil
}
