package people

import (
	"strings"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/time/rate"
)

// tries bounds how often signing in is tried: for one name from anywhere, and from one
// address for any name.
type tries struct {
	names, addresses *lru.Cache[string, *rate.Limiter]
}

// Tries that are let through: at once, and then one each so many seconds.
const (
	nameBurst, nameEach       = 6, 10
	addressBurst, addressEach = 30, 2
	maxLimiters               = 10_000
)

func newTries() *tries {
	names, _ := lru.New[string, *rate.Limiter](maxLimiters)
	addresses, _ := lru.New[string, *rate.Limiter](maxLimiters)
	return &tries{names, addresses}
}

// allow takes a try; false when there were too many.
func (t *tries) allow(now time.Time, name, address string) bool {
	byAddress := limiter(t.addresses, address, addressEach, addressBurst).AllowN(now, 1)
	if name = strings.ToLower(name); name == "" {
		return byAddress
	}
	return limiter(t.names, name, nameEach, nameBurst).AllowN(now, 1) && byAddress
}

// forget lets a name begin anew, once it has signed in.
func (t *tries) forget(name string) { t.names.Remove(strings.ToLower(name)) }

func limiter(in *lru.Cache[string, *rate.Limiter], key string, each float64, burst int) *rate.Limiter {
	fresh := rate.NewLimiter(rate.Limit(1/each), burst)
	if old, there, _ := in.PeekOrAdd(key, fresh); there {
		in.Get(key) // it was used
		return old
	}
	return fresh
}
