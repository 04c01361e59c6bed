package service

import (
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/core/identify"
	"airdrift/core/inventory"
)

func (s *Service) registerFields(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-fields", Method: http.MethodGet, Path: "/api/v1/sites/{site}/fields", Summary: "The fields that devices of a site have: what lists show, and are sorted and narrowed by",
		Tags: []string{"devices"}, Extensions: needs(Look),
	}, s.listFields)
}

func (s *Service) listFields(ctx context.Context, in *SiteInput) (*listOutput[api.Field], error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	list := make([]api.Field, len(inventory.Fields))
	for i, f := range inventory.Fields {
		list[i] = api.Field{
			Name: f.Name, Key: f.Key(), Heading: f.Heading, Doc: f.Doc, Type: string(f.Type), Choices: f.Choices, Listed: f.Listed, Sorted: f.Sorted, Filter: string(f.Filter), Shown: []string{},
		}
		if f.Filter != inventory.NoFilter {
			list[i].Asked = f.Param()
		}
		for _, place := range f.Shown {
			list[i].Shown = append(list[i].Shown, string(place))
		}
	}
	return listOf(list), nil
}

// nameFields has the API take no other names of fields than those that the catalogue has, where one is asked for, and documents them.
func nameFields(described *huma.OpenAPI) {
	attributes := make([]string, len(identify.Attributes))
	for i, a := range identify.Attributes {
		attributes[i] = string(a)
	}
	drifting := inventory.Names(inventory.Drifting())
	for place, names := range map[string][]string{
		"Claim.attribute": attributes, "DriftLine.attribute": drifting, "ActLine.attribute": drifting, "NewAct.attributes": drifting,
	} {
		schema, property, _ := strings.Cut(place, ".")
		restrict(described.Components.Schemas.Map()[schema].Properties[property], names)
	}
	for operation, names := range map[string][]string{"/api/v1/sites/{site}/drift": drifting, "/api/v1/sites/{site}/changes": inventory.Changing()} {
		for _, p := range described.Paths[operation].Get.Parameters {
			if p.Name == "attribute" {
				restrict(p.Schema, names)
			}
		}
	}
}

// restrict lets a text, or each of several, be one of some names.
func restrict(schema *huma.Schema, names []string) {
	one := schema
	if schema.Items != nil {
		one = schema.Items
	}
	for _, name := range names {
		one.Enum = append(one.Enum, name)
	}
	schema.PrecomputeMessages()
}
