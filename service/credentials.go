package service

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/core/evidence"
	"airdrift/core/ledger"
	"airdrift/core/probe"
	"airdrift/core/secret"
	"airdrift/core/wire"
	"airdrift/store"
)

func (s *Service) registerCredentials(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-credentials", Method: http.MethodGet, Path: "/api/v1/sites/{site}/credentials", Summary: "How a site's agents let us in, without what is secret of it",
		Tags: []string{"credentials"}, Extensions: needs(Look),
	}, s.listCredentials)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "create-credential", Method: http.MethodPost, Path: "/api/v1/sites/{site}/credentials", Summary: "Enter a credential; what is secret of it never comes out again",
		DefaultStatus: http.StatusCreated, Tags: []string{"credentials"}, Extensions: needs(Administer),
	}, s.createCredential)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "remove-credential", Method: http.MethodDelete, Path: "/api/v1/credentials/{credential}", Summary: "Delete a credential",
		DefaultStatus: http.StatusNoContent, Tags: []string{"credentials"}, Extensions: needs(Administer),
	}, s.removeCredential)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "try-credential", Method: http.MethodPost, Path: "/api/v1/devices/{device}/credentials/{credential}", Summary: "Try a credential on one device",
		Tags: []string{"credentials"}, Extensions: needs(Sweep),
	}, s.tryCredential)
}

// CredentialInput names a credential in the path.
type CredentialInput struct {
	Credential uint64 `path:"credential" doc:"Number of the credential"`
}

// sealedPart is what is secret of a credential.
type sealedPart struct {
	Community string `json:"community,omitempty"`
	AuthKey   string `json:"authKey,omitempty"`
	PrivKey   string `json:"privKey,omitempty"`
}

// placeOf names where a credential is sealed for: it cannot be moved to another site or another name.
func placeOf(c store.Credential) string { return fmt.Sprintf("credential/%d/%s", c.SiteID, c.Name) }

func (s *Service) listCredentials(ctx context.Context, in *SiteInput) (*listOutput[api.Credential], error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	all, err := s.store.Credentials(ctx, in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	list := make([]api.Credential, len(all))
	for i, c := range all {
		list[i] = toCredential(c)
	}
	return listOf(list), nil
}

func toCredential(c store.Credential) api.Credential {
	return api.Credential{ID: c.ID, Name: c.Name, Version: c.Version, User: c.User, Auth: c.Auth, Priv: c.Priv, CreatedAt: c.CreatedAt}
}

func (s *Service) createCredential(ctx context.Context, in *struct {
	SiteInput
	Body api.NewCredential
}) (*struct{ Body api.Credential }, error) {
	b := in.Body
	remark(ctx, "%s", b.Name)
	wanted := probe.Credential{
		Name: b.Name, Version: b.Version, User: b.User, Auth: b.Auth, Priv: b.Priv,
		Community: secret.New(b.Community), AuthKey: secret.New(b.AuthKey), PrivKey: secret.New(b.PrivKey),
	}
	if err := wanted.Check(); err != nil {
		return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "%v", err))
	}
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	row := store.Credential{SiteID: in.Site, Name: b.Name, Version: b.Version, User: b.User, Auth: b.Auth, Priv: b.Priv, CreatedAt: time.Now().UTC()}
	hidden, err := json.Marshal(sealedPart{b.Community, b.AuthKey, b.PrivKey})
	if err != nil {
		return nil, problem(ctx, err)
	}
	row.Sealed = s.sweeper.vault.Seal(placeOf(row), hidden)
	if err := s.store.CreateCredential(ctx, &row); err != nil {
		return nil, problem(ctx, err)
	}
	return &struct{ Body api.Credential }{toCredential(row)}, nil
}

func (s *Service) removeCredential(ctx context.Context, in *CredentialInput) (*struct{}, error) {
	c, err := s.store.Credential(ctx, in.Credential)
	if err != nil {
		return nil, problem(ctx, err)
	}
	remark(ctx, "%s", c.Name)
	return nil, problem(ctx, s.store.RemoveCredential(ctx, in.Credential))
}

// openCredential gives a stored credential with what is secret of it.
func (s *sweeper) openCredential(c store.Credential) (probe.Credential, error) {
	hidden, err := s.vault.Open(placeOf(c), c.Sealed)
	if err != nil {
		return probe.Credential{}, fmt.Errorf("credential %q: %w", c.Name, err)
	}
	var part sealedPart
	if err := json.Unmarshal(hidden, &part); err != nil {
		return probe.Credential{}, fmt.Errorf("credential %q: what was sealed cannot be read", c.Name) // the cause may quote it
	}
	return probe.Credential{
		ID: c.ID, Name: c.Name, Version: c.Version, User: c.User, Auth: c.Auth, Priv: c.Priv,
		Community: secret.New(part.Community), AuthKey: secret.New(part.AuthKey), PrivKey: secret.New(part.PrivKey),
	}, nil
}

// credentials gives a site's credentials, and which of them worked where before.
func (s *sweeper) credentials(ctx context.Context, site uint64) (all []probe.Credential, preferred map[netip.Addr]uint64, err error) {
	rows, err := s.store.Credentials(ctx, site)
	if err != nil || len(rows) == 0 {
		return nil, nil, err
	}
	byName := map[string]uint64{}
	for _, row := range rows {
		c, err := s.openCredential(row)
		if err != nil {
			return nil, nil, refuse(http.StatusConflict, "%v", err)
		}
		all = append(all, c)
		byName[c.Name] = c.ID
	}
	preferred = map[netip.Addr]uint64{}
	err = s.store.EachDevice(ctx, site, func(d ledger.Device) error {
		if id := byName[evidence.First(d.Items, evidence.KeySNMPCredential)]; id != 0 {
			for _, a := range d.Addrs {
				preferred[a] = id
			}
		}
		return nil
	})
	return all, preferred, err
}

const (
	// trialWait is how long an agent is given for each answer when a credential is tried on it.
	trialWait = 2 * time.Second
	// trialFacts is how many facts of a trial are told.
	trialFacts = 40
)

func (s *Service) tryCredential(ctx context.Context, in *struct {
	DeviceInput
	CredentialInput
}) (*struct{ Body api.CredentialTrial }, error) {
	device, siteID, err := s.store.Device(ctx, in.Device)
	if err != nil {
		return nil, problem(ctx, err)
	}
	row, err := s.store.Credential(ctx, in.Credential)
	if err != nil {
		return nil, problem(ctx, err)
	}
	remark(ctx, "%s on device %d", row.Name, in.Device)
	if row.SiteID != siteID {
		return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "credential %q is another site's", row.Name))
	}
	credential, err := s.sweeper.openCredential(row)
	if err != nil {
		return nil, problem(ctx, refuse(http.StatusConflict, "%v", err))
	}
	w, addr, err := s.wayTo(ctx, siteID, device)
	if err != nil {
		return nil, problem(ctx, err)
	}
	items, answered := probe.SNMPWith(ctx, probe.Over(zonedWire{w}), addr, trialWait, credential)
	trial := api.CredentialTrial{Answered: answered, Taken: evidence.First(items, evidence.KeySNMPCredential) == credential.Name, Facts: []api.Fact{}}
	for _, item := range items[:min(len(items), trialFacts)] {
		trial.Facts = append(trial.Facts, toFact(item))
	}
	return &struct{ Body api.CredentialTrial }{trial}, nil
}

// wayTo gives a wire held to the site's fence, and the address by which a device is reached.
func (s *Service) wayTo(ctx context.Context, siteID uint64, device ledger.Device) (wire.Wire, netip.Addr, error) {
	if len(device.Addrs) == 0 {
		return nil, netip.Addr{}, refuse(http.StatusUnprocessableEntity, "this device has no address to be asked at")
	}
	site, err := s.store.Site(ctx, siteID)
	if err != nil {
		return nil, netip.Addr{}, err
	}
	last, err := s.store.Sweep(ctx, device.LastSweep)
	if err != nil {
		return nil, netip.Addr{}, err
	}
	w, err := s.sweeper.vantages.Open(last.Vantage)
	if err != nil {
		return nil, netip.Addr{}, err
	}
	return wire.Fence(w, wire.Limits{Networks: site.Fence()}), device.Addrs[0], nil
}

// zonedWire says by which link a link-local address is reached (RFC 4007, 11).
type zonedWire struct{ wire.Wire }

// DialContext connects by the wire.
func (z zonedWire) DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	if a := addr.Addr(); a.Is6() && a.IsLinkLocalUnicast() {
		addr = netip.AddrPortFrom(a.WithZone(z.Link().Name), addr.Port())
	}
	return z.Wire.DialContext(ctx, network, addr)
}
