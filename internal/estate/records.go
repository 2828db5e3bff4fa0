package estate

import (
	"context"

	"ironseal/internal/store"
	"ironseal/internal/store/sqlstore"
)

// OpenRecords opens records on their own, such as those of a backup. Here it is decided which database keeps them.
func OpenRecords(ctx context.Context, place string) (store.Store, error) {
	s, err := sqlstore.Open(ctx, place)
	if err != nil {
		return nil, err
	}
	return s, nil
}
