package keeper

import (
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/internal/env"
)

func TestOnePlaceMoreIsOneForAll(t *testing.T) {
	t.Setenv("GOMAXPROCS", "")
	first, second := OnePlaceMore(), OnePlaceMore()
	require.Equal(t, env.Processors()+1, runtime.GOMAXPROCS(0))
	first()
	require.Equal(t, env.Processors()+1, runtime.GOMAXPROCS(0), "the other still wants it")
	second()
	require.Equal(t, env.Processors(), runtime.GOMAXPROCS(0))
	t.Setenv("GOMAXPROCS", "1")
	done := OnePlaceMore()
	require.Equal(t, env.Processors(), runtime.GOMAXPROCS(0), "what the environment says stands")
	done()
}
