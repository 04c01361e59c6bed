// Package client is the typed client of the service's API.
package client

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"airdrift/api"
	"airdrift/internal/localsocket"
)

// maxEvent is the longest event taken, in bytes.
const maxEvent = 4 << 20

// Client speaks to one service. It may be used from several goroutines.
type Client struct {
	base  string
	token string
	http  *http.Client
}

// ErrClear is returned for a service that is to be reached by plain HTTP: a token would go to whoever listens there.
var ErrClear = errors.New("a token is sent by TLS alone: want a URL that begins with https://")

// New makes a client that speaks TLS to the service at a URL such as https://10.40.1.9:8470. pin is the SHA-256 of the key of its
// certificate in hexadecimal, for one that nobody has signed: the client then speaks to the holder of that key and to nobody else.
// With an empty pin the system's trusted certificates have to vouch for it. Any other than an https URL gives ErrClear.
func New(base, token, pin string) (*Client, error) {
	parsed, err := url.Parse(base)
	if err != nil || parsed.Host == "" {
		return nil, fmt.Errorf("%q is not a URL such as https://10.40.1.9:8470", base)
	}
	if parsed.Scheme != "https" {
		return nil, ErrClear
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = &tls.Config{MinVersion: tls.VersionTLS12}
	if pin != "" {
		// The names and signatures of the certificate do not matter, as its key is the very one that is wanted.
		transport.TLSClientConfig.InsecureSkipVerify = true
		transport.TLSClientConfig.VerifyConnection = func(state tls.ConnectionState) error {
			sum := sha256.Sum256(state.PeerCertificates[0].RawSubjectPublicKeyInfo)
			if !strings.EqualFold(hex.EncodeToString(sum[:]), pin) {
				return errors.New("the service shows a certificate with another key than the one that is pinned")
			}
			return nil
		}
	}
	return Over(&http.Client{Transport: transport, CheckRedirect: stay}, base, token), nil
}

// stay keeps a client from following a service elsewhere, where its token would go as well.
func stay(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }

// Local makes a client for the service of a data directory on this machine. It goes by a socket there, at which the system says
// who is who: no token is sent.
func Local(data string) *Client {
	transport := &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) { return localsocket.Dial(ctx, data) }}
	return Over(&http.Client{Transport: transport, CheckRedirect: stay}, localBase, "")
}

// localBase stands for the service of this machine, which has no URL at its socket.
const localBase = "http://airdrift.local"

// Over makes a client that goes by a connection of the caller's choice; whom a token is shown to is then the caller's to know.
func Over(by *http.Client, base, token string) *Client {
	return &Client{base: strings.TrimRight(base, "/"), token: token, http: by}
}

// Problem is an answer of the service that tells what was wrong (RFC 9457).
type Problem struct {
	Type   string   `json:"type"`
	Status int      `json:"status"`
	Title  string   `json:"title"`
	Detail string   `json:"detail"`
	Errors []Detail `json:"errors"`
}

// Detail is one of several things wrong, with its place.
type Detail struct {
	Message  string `json:"message"`
	Location string `json:"location"`
	Value    any    `json:"value"`
}

func (p *Problem) Error() string {
	text := p.Detail
	if text == "" {
		text = p.Title
	}
	for _, d := range p.Errors {
		text += "\n  " + d.Location
		if field, ok := d.Value.(string); ok && field != "" && !strings.HasPrefix(d.Location, "body") {
			text += " (" + field + ")"
		}
		text += ": " + d.Message
	}
	return text
}

// do sends a request and decodes the answer.
func do[T any](ctx context.Context, c *Client, method, path string, body any) (T, error) {
	var out T
	resp, err := c.send(ctx, method, path, body)
	if err != nil {
		return out, err
	}
	defer resp.Body.Close()
	if resp.StatusCode == http.StatusNoContent {
		return out, nil
	}
	if err := json.NewDecoder(resp.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("answer of the service: %w", err)
	}
	return out, nil
}

// send gives the answer to a request, or its problem as an error. A body that is a reader is sent as it is.
func (c *Client) send(ctx context.Context, method, path string, body any) (*http.Response, error) {
	reader, contentType, err := encode(body)
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, reader)
	if err != nil {
		return nil, fmt.Errorf("address of the service: %w", err)
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	if contentType != "" {
		req.Header.Set("Content-Type", contentType)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if errors.Is(err, localsocket.ErrNone) {
			return nil, errors.New("no service runs on this data directory: start one with airdrift serve, or name another with --data")
		}
		if c.base == localBase {
			return nil, fmt.Errorf("the service of this data directory cannot be reached: %w", errors.Unwrap(err))
		}
		return nil, fmt.Errorf("no service answers at %s: is it running? (%w)", c.base, errors.Unwrap(err))
	}
	if resp.StatusCode < http.StatusMultipleChoices {
		return resp, nil
	}
	defer resp.Body.Close()
	problem := &Problem{Status: resp.StatusCode, Title: resp.Status}
	_ = json.NewDecoder(io.LimitReader(resp.Body, maxEvent)).Decode(problem) // the status alone says enough
	return nil, problem
}

func encode(body any) (reader io.Reader, contentType string, err error) {
	switch body := body.(type) {
	case nil:
		return nil, "", nil
	case io.Reader:
		return body, "application/octet-stream", nil
	}
	text, err := json.Marshal(body)
	return bytes.NewReader(text), "application/json", err
}

func sitePath(site uint64, rest string) string { return fmt.Sprintf("/api/v1/sites/%d%s", site, rest) }

// Sites gives all sites.
func (c *Client) Sites(ctx context.Context) ([]api.Site, error) {
	return do[[]api.Site](ctx, c, http.MethodGet, "/api/v1/sites", nil)
}

// CreateSite enters a site.
func (c *Client) CreateSite(ctx context.Context, site api.NewSite) (api.Site, error) {
	return do[api.Site](ctx, c, http.MethodPost, "/api/v1/sites", site)
}

// EnterSite adds a site with the credentials for its agents.
func (c *Client) EnterSite(ctx context.Context, site api.NewSite, credentials []api.NewCredential) (api.Site, error) {
	entered, err := c.CreateSite(ctx, site)
	if err != nil {
		return entered, err
	}
	for _, credential := range credentials {
		if _, err := c.CreateCredential(ctx, entered.ID, credential); err != nil {
			return entered, err
		}
	}
	return entered, nil
}

// Credentials lists how a site's agents let us in.
func (c *Client) Credentials(ctx context.Context, site uint64) ([]api.Credential, error) {
	return do[[]api.Credential](ctx, c, http.MethodGet, sitePath(site, "/credentials"), nil)
}

// CreateCredential enters a credential.
func (c *Client) CreateCredential(ctx context.Context, site uint64, credential api.NewCredential) (api.Credential, error) {
	return do[api.Credential](ctx, c, http.MethodPost, sitePath(site, "/credentials"), credential)
}

// RemoveCredential takes a credential away.
func (c *Client) RemoveCredential(ctx context.Context, id uint64) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, fmt.Sprintf("/api/v1/credentials/%d", id), nil)
	return err
}

// TryCredential tries a credential on one device.
func (c *Client) TryCredential(ctx context.Context, device, credential uint64) (api.CredentialTrial, error) {
	return do[api.CredentialTrial](ctx, c, http.MethodPost, devicePath(device, fmt.Sprintf("/credentials/%d", credential)), nil)
}

// Rules lists the files of rules that a site has added.
func (c *Client) Rules(ctx context.Context, site uint64) ([]api.RuleFile, error) {
	return do[[]api.RuleFile](ctx, c, http.MethodGet, sitePath(site, "/rules"), nil)
}

// TryRules checks rules and tells what they would change.
func (c *Client) TryRules(ctx context.Context, site uint64, file api.NewRuleFile) (api.RuleTrial, error) {
	return do[api.RuleTrial](ctx, c, http.MethodPost, sitePath(site, "/rules/trial"), file)
}

// SaveRules keeps a file of rules, switched off.
func (c *Client) SaveRules(ctx context.Context, site uint64, file api.NewRuleFile) (api.RuleFile, error) {
	return do[api.RuleFile](ctx, c, http.MethodPut, sitePath(site, "/rules"), file)
}

// SwitchRules switches a file of rules on or off.
func (c *Client) SwitchRules(ctx context.Context, file uint64, active bool) (api.RuleFile, error) {
	return do[api.RuleFile](ctx, c, http.MethodPut, fmt.Sprintf("/api/v1/rules/%d/active", file), api.Activity{Active: active})
}

// RemoveRules takes a file of rules away.
func (c *Client) RemoveRules(ctx context.Context, file uint64) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, fmt.Sprintf("/api/v1/rules/%d", file), nil)
	return err
}

// ImportLeases puts the leases of a DHCP server in the place of those that are there.
func (c *Client) ImportLeases(ctx context.Context, site uint64, name string, file io.Reader) (api.LeaseImport, error) {
	return do[api.LeaseImport](ctx, c, http.MethodPut, sitePath(site, "/leases?name="+url.QueryEscape(name)), file)
}

// RemoveLeases forgets the leases of a site's DHCP server.
func (c *Client) RemoveLeases(ctx context.Context, site uint64) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, sitePath(site, "/leases"), nil)
	return err
}

// AddNetwork adds a network to a site.
func (c *Client) AddNetwork(ctx context.Context, site uint64, n api.Network) (api.Site, error) {
	return do[api.Site](ctx, c, http.MethodPost, sitePath(site, "/networks"), n)
}

// Vantages tells where sweeps can be made from.
func (c *Client) Vantages(ctx context.Context) ([]api.Vantage, error) {
	return do[[]api.Vantage](ctx, c, http.MethodGet, "/api/v1/vantages", nil)
}

// Protocols lists the protocols that devices are asked by, each of which a sweep may leave out.
func (c *Client) Protocols(ctx context.Context) ([]api.Protocol, error) {
	return do[[]api.Protocol](ctx, c, http.MethodGet, "/api/v1/protocols", nil)
}

// Overview gives what is at a site, in figures.
func (c *Client) Overview(ctx context.Context, site uint64) (api.Overview, error) {
	return do[api.Overview](ctx, c, http.MethodGet, sitePath(site, "/overview"), nil)
}

// StartSweep starts a sweep.
func (c *Client) StartSweep(ctx context.Context, site uint64, wanted api.NewSweep) (api.Sweep, error) {
	return do[api.Sweep](ctx, c, http.MethodPost, sitePath(site, "/sweeps"), wanted)
}

// Sweeps gives the newest sweeps of a site.
func (c *Client) Sweeps(ctx context.Context, site uint64) ([]api.Sweep, error) {
	return do[[]api.Sweep](ctx, c, http.MethodGet, sitePath(site, "/sweeps"), nil)
}

// Sweep gives one sweep.
func (c *Client) Sweep(ctx context.Context, id uint64) (api.Sweep, error) {
	return do[api.Sweep](ctx, c, http.MethodGet, fmt.Sprintf("/api/v1/sweeps/%d", id), nil)
}

// StopSweep stops a sweep and waits until what it saw is written.
func (c *Client) StopSweep(ctx context.Context, id uint64) (api.Sweep, error) {
	return do[api.Sweep](ctx, c, http.MethodPost, fmt.Sprintf("/api/v1/sweeps/%d/stop", id), nil)
}

// Sightings gives what a sweep saw.
func (c *Client) Sightings(ctx context.Context, sweep uint64) ([]api.Sighting, error) {
	return do[[]api.Sighting](ctx, c, http.MethodGet, fmt.Sprintf("/api/v1/sweeps/%d/sightings", sweep), nil)
}

// DeviceQuery says which devices to list; the zero value means the first hundred by address.
type DeviceQuery struct {
	Standing, Presence, Kind             []string
	Vendor, Model, OS, Firmware, Service []string
	Strength                             int // in decibans
	Contested                            bool
	Text, Sort, Trait                    string
	Descend                              bool
	Offset, Limit                        int
}

func (q DeviceQuery) encode() string {
	v := url.Values{}
	for name, list := range map[string][]string{"standing": q.Standing, "presence": q.Presence, "kind": q.Kind, "vendor": q.Vendor, "model": q.Model, "os": q.OS, "firmware": q.Firmware, "service": q.Service} {
		for _, value := range list {
			v.Add(name, value)
		}
	}
	for name, text := range map[string]string{"text": q.Text, "sort": q.Sort, "trait": q.Trait} {
		if text != "" {
			v.Set(name, text)
		}
	}
	for name, on := range map[string]bool{"contested": q.Contested, "descend": q.Descend} {
		if on {
			v.Set(name, "true")
		}
	}
	for name, n := range map[string]int{"offset": q.Offset, "limit": q.Limit, "strength": q.Strength} {
		if n > 0 {
			v.Set(name, strconv.Itoa(n))
		}
	}
	return v.Encode()
}

// Devices gives one page of a site's devices.
func (c *Client) Devices(ctx context.Context, site uint64, q DeviceQuery) (api.DeviceList, error) {
	return do[api.DeviceList](ctx, c, http.MethodGet, sitePath(site, "/devices?"+q.encode()), nil)
}

// Device gives all that is known of one device.
func (c *Client) Device(ctx context.Context, id uint64) (api.Device, error) {
	return do[api.Device](ctx, c, http.MethodGet, fmt.Sprintf("/api/v1/devices/%d", id), nil)
}

// Register gives the register of a site.
func (c *Client) Register(ctx context.Context, site uint64) ([]api.Entry, error) {
	return do[[]api.Entry](ctx, c, http.MethodGet, sitePath(site, "/register"), nil)
}

// Import says how to import a register.
type Import struct {
	Replace bool // take the old register out first
	Partial bool // leave out the lines in which something is wrong
}

// ImportRegister imports a register from CSV or a workbook, all or nothing unless it may be partial.
func (c *Client) ImportRegister(ctx context.Context, site uint64, file io.Reader, how Import) (api.Imported, error) {
	return do[api.Imported](ctx, c, http.MethodPost, sitePath(site, fmt.Sprintf("/register?replace=%t&partial=%t", how.Replace, how.Partial)), file)
}

// ExportRegister writes the register of a site as CSV.
func (c *Client) ExportRegister(ctx context.Context, site uint64, out io.Writer) error {
	resp, err := c.send(ctx, http.MethodGet, sitePath(site, "/register.csv"), nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = io.Copy(out, resp.Body)
	return err
}

// ContinueSweep goes on with a sweep that was stopped or interrupted.
func (c *Client) ContinueSweep(ctx context.Context, id uint64) (api.Sweep, error) {
	return do[api.Sweep](ctx, c, http.MethodPost, fmt.Sprintf("/api/v1/sweeps/%d/continue", id), nil)
}

// DiscardSweep removes a sweep and all that only it brought.
func (c *Client) DiscardSweep(ctx context.Context, id uint64) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, fmt.Sprintf("/api/v1/sweeps/%d", id), nil)
	return err
}

// Reread reads all stored evidence of a site again.
func (c *Client) Reread(ctx context.Context, site uint64) error {
	_, err := do[struct{}](ctx, c, http.MethodPost, sitePath(site, "/reread"), nil)
	return err
}

// SweepLog gives what happened in a sweep.
func (c *Client) SweepLog(ctx context.Context, id uint64) ([]api.LogLine, error) {
	return do[[]api.LogLine](ctx, c, http.MethodGet, fmt.Sprintf("/api/v1/sweeps/%d/log", id), nil)
}

// Reach says from which vantages an address can be reached; site 0 looks at no fence.
func (c *Client) Reach(ctx context.Context, address string, site uint64) ([]api.Reach, error) {
	return do[[]api.Reach](ctx, c, http.MethodGet, fmt.Sprintf("/api/v1/reach?address=%s&site=%d", url.QueryEscape(address), site), nil)
}

// Fence gives where a site may be swept.
func (c *Client) Fence(ctx context.Context, site uint64) (api.Fence, error) {
	return do[api.Fence](ctx, c, http.MethodGet, sitePath(site, "/fence"), nil)
}

// RemoveNetwork takes a network out of a site's fence.
func (c *Client) RemoveNetwork(ctx context.Context, site uint64, subnet string) (api.Site, error) {
	return do[api.Site](ctx, c, http.MethodDelete, sitePath(site, "/networks?subnet="+url.QueryEscape(subnet)), nil)
}

// SetNameServers says which name servers a site has.
func (c *Client) SetNameServers(ctx context.Context, site uint64, servers []string) (api.Site, error) {
	return do[api.Site](ctx, c, http.MethodPut, sitePath(site, "/name-servers"), api.Addresses{Addresses: servers})
}

func devicePath(device uint64, rest string) string {
	return fmt.Sprintf("/api/v1/devices/%d%s", device, rest)
}

// History gives when and where a device was seen.
func (c *Client) History(ctx context.Context, device uint64) ([]api.Seen, error) {
	return do[[]api.Seen](ctx, c, http.MethodGet, devicePath(device, "/history"), nil)
}

// SetNote writes a note on a device; an empty one takes it away.
func (c *Client) SetNote(ctx context.Context, device uint64, text string) error {
	_, err := do[struct{}](ctx, c, http.MethodPut, devicePath(device, "/note"), api.Note{Text: text})
	return err
}

// SetAside sets a device aside for a reason.
func (c *Client) SetAside(ctx context.Context, device uint64, reason string) error {
	_, err := do[struct{}](ctx, c, http.MethodPut, devicePath(device, "/aside"), map[string]string{"reason": reason})
	return err
}

// TakeBack takes back that a device is set aside.
func (c *Client) TakeBack(ctx context.Context, device uint64) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, devicePath(device, "/aside"), nil)
	return err
}

// Decisions gives what people have said of a device, the newest first.
func (c *Client) Decisions(ctx context.Context, device uint64) ([]api.Decision, error) {
	return do[[]api.Decision](ctx, c, http.MethodGet, devicePath(device, "/decisions"), nil)
}

// Undo undoes a decision; the one holds again whose place it had taken.
func (c *Client) Undo(ctx context.Context, decision uint64) error {
	_, err := do[struct{}](ctx, c, http.MethodPost, fmt.Sprintf("/api/v1/decisions/%d/undo", decision), nil)
	return err
}

// AddToRegister puts a device into the register.
func (c *Client) AddToRegister(ctx context.Context, device uint64, said api.NewEntry) (api.Device, error) {
	return do[api.Device](ctx, c, http.MethodPost, devicePath(device, "/register"), said)
}

// Users gives all users.
func (c *Client) Users(ctx context.Context) ([]api.User, error) {
	return do[[]api.User](ctx, c, http.MethodGet, "/api/v1/users", nil)
}

// CreateUser enters a user.
func (c *Client) CreateUser(ctx context.Context, user api.NewUser) (api.User, error) {
	return do[api.User](ctx, c, http.MethodPost, "/api/v1/users", user)
}

// SetRole changes what a user may do.
func (c *Client) SetRole(ctx context.Context, user, role string) error {
	_, err := do[struct{}](ctx, c, http.MethodPut, "/api/v1/users/"+url.PathEscape(user)+"/role", api.Role{Role: role})
	return err
}

// ResetPassword gives a user a new password.
func (c *Client) ResetPassword(ctx context.Context, user, password string) error {
	_, err := do[struct{}](ctx, c, http.MethodPut, "/api/v1/users/"+url.PathEscape(user)+"/password", api.Password{Password: password})
	return err
}

// DeleteUser takes a user away.
func (c *Client) DeleteUser(ctx context.Context, user string) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, "/api/v1/users/"+url.PathEscape(user), nil)
	return err
}

// Audit gives who did what, the newest first.
func (c *Client) Audit(ctx context.Context, limit int) ([]api.AuditLine, error) {
	return do[[]api.AuditLine](ctx, c, http.MethodGet, fmt.Sprintf("/api/v1/audit?limit=%d", limit), nil)
}

// CreateToken makes a token of one's own that is good for so many days, 0 for the usual number.
func (c *Client) CreateToken(ctx context.Context, label string, days int) (api.Token, error) {
	return do[api.Token](ctx, c, http.MethodPost, "/api/v1/tokens", api.NewToken{Label: label, Days: days})
}

// UserAccess gives a user's sessions and tokens.
func (c *Client) UserAccess(ctx context.Context, user string) (api.Access, error) {
	return do[api.Access](ctx, c, http.MethodGet, "/api/v1/users/"+url.PathEscape(user)+"/access", nil)
}

// RevokeUserAccess ends a user's sessions and deletes the tokens.
func (c *Client) RevokeUserAccess(ctx context.Context, user string) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, "/api/v1/users/"+url.PathEscape(user)+"/access", nil)
	return err
}

// RevokeAccess deletes all of one's own tokens and ends one's sessions.
func (c *Client) RevokeAccess(ctx context.Context) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, "/api/v1/access", nil)
	return err
}

// ResetSecondFactor turns a user's second factor off.
func (c *Client) ResetSecondFactor(ctx context.Context, user string) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, "/api/v1/users/"+url.PathEscape(user)+"/second-factor", nil)
	return err
}

// Tokens gives one's own tokens.
func (c *Client) Tokens(ctx context.Context) ([]api.Token, error) {
	return do[[]api.Token](ctx, c, http.MethodGet, "/api/v1/tokens", nil)
}

// DeleteToken takes one of one's own tokens away.
func (c *Client) DeleteToken(ctx context.Context, id uint64) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, fmt.Sprintf("/api/v1/tokens/%d", id), nil)
	return err
}

// Vendor tells what a MAC address says of its maker; site 0 asks the public register alone.
func (c *Client) Vendor(ctx context.Context, mac string, site uint64) (api.Vendor, error) {
	return do[api.Vendor](ctx, c, http.MethodGet, fmt.Sprintf("/api/v1/vendors/%s?site=%d", url.PathEscape(mac), site), nil)
}

// SetPassword sets one's own password.
func (c *Client) SetPassword(ctx context.Context, password api.OwnPassword) error {
	_, err := do[struct{}](ctx, c, http.MethodPut, "/api/v1/password", password)
	return err
}

// Watcher takes the events of a sweep; a nil member leaves its events out.
type Watcher struct {
	Progress func(api.Progress)
	Sighting func(api.Sighting)
	Warning  func(api.Warning)
}

// Watch tells the events of a sweep until it is over, and gives the sweep as it ended.
func (c *Client) Watch(ctx context.Context, id uint64, w Watcher) (api.Sweep, error) {
	var final api.Sweep
	resp, err := c.send(ctx, http.MethodGet, fmt.Sprintf("/api/v1/sweeps/%d/events", id), nil)
	if err != nil {
		return final, err
	}
	defer resp.Body.Close()
	over := false
	err = events(resp.Body, func(name string, data []byte) error {
		switch name {
		case "progress":
			return decode(data, w.Progress)
		case "sighting":
			return decode(data, w.Sighting)
		case "warning":
			return decode(data, w.Warning)
		case "sweep":
			over = true
			return json.Unmarshal(data, &final)
		}
		return nil
	})
	if err == nil && !over {
		err = fmt.Errorf("watch sweep %d: the service broke off", id)
	}
	return final, err
}

func decode[T any](data []byte, take func(T)) error {
	if take == nil {
		return nil
	}
	var value T
	if err := json.Unmarshal(data, &value); err != nil {
		return err
	}
	take(value)
	return nil
}

// events reads a stream of server-sent events (WHATWG HTML, 9.2).
func events(r io.Reader, take func(name string, data []byte) error) error {
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 64<<10), maxEvent)
	name, data := "", []byte(nil)
	for lines.Scan() {
		field, value, _ := strings.Cut(lines.Text(), ":")
		value = strings.TrimPrefix(value, " ")
		switch field {
		case "event":
			name = value
		case "data":
			data = append(data, value...)
		case "":
			if len(data) > 0 {
				if err := take(name, data); err != nil {
					return err
				}
			}
			name, data = "", nil
		}
	}
	return lines.Err()
}
