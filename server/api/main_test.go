package api_test

import (
	"os"
	"testing"

	"latchkey/server/store/storetest"
)

func TestMain(m *testing.M) { os.Exit(storetest.Main(m)) }
