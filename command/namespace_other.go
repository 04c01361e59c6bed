//go:build !linux

package command

import (
	"context"

	"airdrift/service"
	"airdrift/simsite"
)

func inNamespace() bool { return false }

func reenter(context.Context, Program) error { return wrongUse("--kernel works on Linux only") }

func kernelVantages(*simsite.Site) (service.Vantages, error) {
	return nil, wrongUse("--kernel works on Linux only")
}
