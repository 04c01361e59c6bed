package service_test

import (
	"context"
	"fmt"
	"os"
	"testing"

	"airdrift/service"
	"airdrift/service/servicetest"
	"airdrift/store/storetest"
)

// toBeKilled names a data directory on which this program is to run a service until it is killed.
const toBeKilled = "AIRDRIFT_TEST_SERVE"

func TestMain(m *testing.M) {
	if dir := os.Getenv(toBeKilled); dir != "" {
		serveUntilKilled(dir)
	}
	storetest.Main(m)
}

// serveUntilKilled runs a service on the demo building and says when it is ready.
func serveUntilKilled(dir string) {
	wire, err := servicetest.Building()
	if err == nil {
		_, err = service.Run(context.Background(), service.InstanceConfig{Data: dir, Listen: "127.0.0.1:0", Vantages: service.FixedVantages{wire}})
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	fmt.Println("ready")
	select {}
}
