package service

import (
	"context"
	"time"

	"airdrift/api"
	"airdrift/core/probe"
	"airdrift/core/sweep"
)

func fromPlan(p *api.Plan) sweep.Plan {
	if p == nil {
		return sweep.Plan{}
	}
	plan := sweep.Plan{Off: p.LeaveOut, Never: p.Never, Quiet: p.Quiet, Read: p.Read}
	for _, part := range p.Paces {
		plan.Paces = append(plan.Paces, sweep.PartPace{Ranges: part.Ranges, Pace: part.Pace})
	}
	if w := p.Waits; w != nil {
		plan.Waits = sweep.Waits{
			First: time.Duration(w.First) * time.Millisecond, Least: time.Duration(w.Least) * time.Millisecond,
			Most: time.Duration(w.Most) * time.Millisecond, Last: time.Duration(w.Last) * time.Millisecond,
		}
	}
	if p.Patience != nil {
		plan.Patience = sweep.Patience(*p.Patience)
	}
	return plan
}

// toPlan gives nil for a plan that asks for nothing in particular.
func toPlan(p sweep.Plan) *api.Plan {
	if len(p.Off)+len(p.Never)+len(p.Paces)+len(p.Quiet) == 0 && p.Waits == (sweep.Waits{}) && p.Patience == (sweep.Patience{}) && !p.Read {
		return nil
	}
	plan := &api.Plan{LeaveOut: p.Off, Never: p.Never, Quiet: p.Quiet, Read: p.Read}
	for _, part := range p.Paces {
		plan.Paces = append(plan.Paces, api.PartPace{Ranges: part.Ranges, Pace: part.Pace})
	}
	if w := p.Waits; w != (sweep.Waits{}) {
		plan.Waits = &api.Waits{First: int(w.First.Milliseconds()), Least: int(w.Least.Milliseconds()), Most: int(w.Most.Milliseconds()), Last: int(w.Last.Milliseconds())}
	}
	if p.Patience != (sweep.Patience{}) {
		patience := api.Patience(p.Patience)
		plan.Patience = &patience
	}
	return plan
}

var costNames = map[probe.Cost]string{probe.Light: "light", probe.Middling: "middling", probe.Demanding: "demanding"}

func (s *Service) listProtocols(context.Context, *struct{}) (*listOutput[api.Protocol], error) {
	var list []api.Protocol
	for _, p := range probe.Protocols() {
		list = append(list, api.Protocol{Name: p.Name, Cost: costNames[p.Cost], Parts: texts(p.Parts)})
	}
	return listOf(list), nil
}
