package watch

import (
	"context"
	"errors"
)

func openJMAP(ctx context.Context, a Account) (Box, error) { return nil, errors.New("later") }
