package finding

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"airdrift/core/evidence"
)

// certificateRules are about TLS and its certificates.
var certificateRules = []Rule{
	{
		ID: "certificate-expired", Severity: High, Source: "RFC 5280, 4.1.2.5", facts: []string{evidence.KeyTLSUntil},
		alone: func(c *caseOf) {
			c.eachCertificate(func(it evidence.Item, until time.Time) {
				if until.Before(c.now()) {
					c.remark(it.Port.String(), []string{fact(it)}, "date", until.Format(time.DateOnly), "port", it.Port.String())
				} else {
					c.due(until)
				}
			})
		},
	},
	{
		ID: "certificate-expiring", Severity: Medium, Source: "RFC 5280, 4.1.2.5", facts: []string{evidence.KeyTLSUntil},
		Params: []Param{{Name: "days", Kind: Number, Default: "30", Min: 1, Max: 3650, Text: "how many days before its end it is remarked"}},
		alone: func(c *caseOf) {
			c.eachCertificate(func(it evidence.Item, until time.Time) {
				from := until.Add(-time.Duration(c.number("days") * 24 * float64(time.Hour)))
				switch {
				case c.now().Before(from):
					c.due(from)
				case c.now().Before(until):
					c.due(until)
					c.remark(it.Port.String(), []string{fact(it)}, "date", until.Format(time.DateOnly), "port", it.Port.String())
				}
			})
		},
	},
	{
		ID: "certificate-self-made", Severity: Info, Source: "RFC 5280, 3.2", facts: []string{evidence.KeyTLSIssuer},
		alone: func(c *caseOf) {
			for it := range c.each(evidence.KeyTLSIssuer) {
				if slices.Contains(c.valuesAt(evidence.KeyTLSSubject, it.Port), it.Value) {
					c.remark(it.Port.String(), []string{fact(it)}, "subject", it.Value, "port", it.Port.String())
				}
			}
		},
	},
	{
		ID: "certificate-weak", Severity: Medium, Source: "NIST SP 800-131A, 3 and 9", facts: []string{"tls.strength"},
		Params: []Param{{Name: "bits", Kind: Number, Default: "2048", Min: 512, Max: 16384, Text: "least length of an RSA key, in bits"}},
		alone: func(c *caseOf) {
			for it := range c.each("tls.strength") {
				if why := weakness(it.Value, c.number("bits")); why != "" {
					c.remark(it.Port.String(), []string{fact(it)}, "why", why, "port", it.Port.String())
				}
			}
		},
	},
	{
		ID: "certificate-shared", Severity: Medium, Source: "CWE-321", facts: []string{evidence.KeyTLSKey},
		marks: func(c *caseOf) {
			for it := range c.each(evidence.KeyTLSKey) {
				c.mark(it.Value, "")
			}
		},
		together: func(r *ruling, group string, members []Member) {
			if sharers := distinct(members); sharers > 1 {
				r.shared(group, members, "key", group, "devices", fmt.Sprint(sharers))
			}
		},
	},
	{
		ID: "old-tls", Severity: Medium, Source: "RFC 8996", facts: []string{evidence.KeyTLSVersion},
		alone: func(c *caseOf) {
			for it := range c.each(evidence.KeyTLSVersion) {
				// The newest that both know is agreed on, so the device knows no newer one.
				if slices.Contains([]string{"SSLv3", "TLS 1.0", "TLS 1.1"}, it.Value) {
					c.remark(it.Port.String(), []string{fact(it)}, "version", it.Value, "port", it.Port.String())
				}
			}
		},
	},
}

// eachCertificate shows the ends of the device's certificates, one of each port.
func (c *caseOf) eachCertificate(show func(it evidence.Item, until time.Time)) {
	var seen []evidence.Port
	for it := range c.each(evidence.KeyTLSUntil) {
		until, err := time.Parse(time.RFC3339, it.Value)
		if err == nil && !slices.Contains(seen, it.Port) {
			seen = append(seen, it.Port)
			show(it, until)
		}
	}
}

// valuesAt gives the values of a fact at one port.
func (c *caseOf) valuesAt(key string, port evidence.Port) (values []string) {
	for it := range c.each(key) {
		if it.Port == port {
			values = append(values, it.Value)
		}
	}
	return values
}

// weakness says what is weak of a certificate, written as "RSA 1024, SHA1-RSA"; "" where nothing is.
func weakness(strength string, least float64) string {
	key, signature, _ := strings.Cut(strength, ", ")
	if length, is := strings.CutPrefix(key, "RSA "); is {
		if bits, err := strconv.ParseFloat(length, 64); err == nil && bits < least {
			return "an RSA key of " + length + " bits"
		}
	}
	for _, old := range []string{"MD2", "MD5", "SHA1"} {
		if strings.Contains(signature, old) {
			return "a signature by " + old
		}
	}
	return ""
}

// rules are all rules that ship with the program, in the order in which they are listed.
var rules = slices.Concat(registerRules, placeRules, accessRules, certificateRules)

// Rules gives the rules that ship with the program.
func Rules() []Rule { return slices.Clone(rules) }

// RulesWith gives the rules that ship with the program and those that a site has written.
func RulesWith(own []OwnRule) []Rule { return slices.Concat(rules, ownRules(own)) }
