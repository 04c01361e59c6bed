package console_test

import (
	"testing"

	"airdrift/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }
