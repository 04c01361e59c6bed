package command

import (
	"fmt"
	"net/netip"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"airdrift/core/yamlfile"
	"airdrift/service"
)

// settings is the file of a service's settings; docs/settings.md documents it. What is left out keeps its usual value.
type settings struct {
	Data           string   `yaml:"data"`
	Listen         string   `yaml:"listen"`
	DSN            string   `yaml:"dsn"`
	DSNFile        string   `yaml:"dsnFile"`
	DSNCA          string   `yaml:"dsnCA"`
	TLS            bool     `yaml:"tls"`
	TLSCertificate string   `yaml:"tlsCertificate"`
	TLSKey         string   `yaml:"tlsKey"`
	Public         []string `yaml:"public"`
	SpoolLimit     int64    `yaml:"spoolLimit"` // bytes of one sweep's journal
	TrustedProxies []string `yaml:"trustedProxies"`
	SecondFactor   bool     `yaml:"secondFactor"`
	Idle           string   `yaml:"idle"` // a time such as 30m
	AuditDays      int      `yaml:"auditDays"`
}

// Bounds of settings that would otherwise leave doors open for ever, or shut at once.
const (
	minIdle, maxIdle = time.Minute, 12 * time.Hour
	maxAuditDays     = 3660
)

// readSettings reads a file of settings. A key it does not know is a fault with its line.
func readSettings(path string) (settings, error) {
	var s settings
	if path == "" {
		return s, nil
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return s, fmt.Errorf("settings: %w", err)
	}
	doc, err := yamlfile.Read(path, text, &s)
	if err != nil {
		return s, &useError{err.Error()}
	}
	for i, network := range s.Public {
		if _, err := readSubnet(network); err != nil {
			doc.Refuse(fmt.Sprintf("$.public[%d]", i), "%v", err)
		}
	}
	if s.SpoolLimit < 0 {
		doc.Refuse("$.spoolLimit", "want a number of bytes above 0")
	}
	for i, network := range s.TrustedProxies {
		if _, err := readSubnet(network); err != nil {
			doc.Refuse(fmt.Sprintf("$.trustedProxies[%d]", i), "%v", err)
		}
	}
	if s.Idle != "" {
		if _, err := readIdle(s.Idle); err != nil {
			doc.Refuse("$.idle", "%v", err)
		}
	}
	if s.AuditDays < 0 || s.AuditDays > maxAuditDays {
		doc.Refuse("$.auditDays", "want a number of days from 1 to %d", maxAuditDays)
	}
	if err := doc.Faults.Err(); err != nil {
		return s, &useError{err.Error()}
	}
	return s, nil
}

func readIdle(text string) (time.Duration, error) {
	idle, err := time.ParseDuration(text)
	if err != nil || idle < minIdle || idle > maxIdle {
		return 0, fmt.Errorf("%q is not a time from %s to %s such as 30m", text, minIdle, maxIdle)
	}
	return idle, nil
}

func readSubnet(text string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(text)
	if err != nil || p.Masked() != p {
		return p, fmt.Errorf("%q is not a network such as 192.0.2.0/24", text)
	}
	return p, nil
}

// instanceConfig puts options, environment and file together, in this order.
func instanceConfig(c *cli.Command) (service.InstanceConfig, error) {
	file, err := readSettings(c.String("settings"))
	if err != nil {
		return service.InstanceConfig{}, err
	}
	text := func(option, fromFile string) string {
		if c.IsSet(option) || fromFile == "" {
			return c.String(option)
		}
		return fromFile
	}
	config := service.InstanceConfig{
		Data: text("data", file.Data), Listen: text("listen", file.Listen), TLS: c.Bool("tls") || file.TLS && !c.IsSet("tls"),
		DSNCA: text("dsn-ca", file.DSNCA), Certificate: text("tls-certificate", file.TLSCertificate), Key: text("tls-key", file.TLSKey), SpoolLimit: file.SpoolLimit,
	}
	if config.Public, err = networks(c, "public", file.Public); err != nil {
		return config, err
	}
	if err := guardConfig(c, file, &config); err != nil {
		return config, err
	}
	config.DSN, err = readDSN(text("dsn", file.DSN), text("dsn-file", file.DSNFile))
	return config, err
}

// networks reads those of an option, or where it is not given those of the file.
func networks(c *cli.Command, option string, fromFile []string) ([]netip.Prefix, error) {
	texts := fromFile
	if c.IsSet(option) {
		texts = c.StringSlice(option)
	}
	var list []netip.Prefix
	for _, text := range texts {
		p, err := readSubnet(text)
		if err != nil {
			return nil, wrongUse("--%s: %v", option, err)
		}
		list = append(list, p)
	}
	return list, nil
}

// guardConfig puts together who is let in, and how.
func guardConfig(c *cli.Command, file settings, config *service.InstanceConfig) error {
	var err error
	if config.Proxies, err = networks(c, "trusted-proxy", file.TrustedProxies); err != nil {
		return err
	}
	config.SecondFactor = c.Bool("second-factor") || file.SecondFactor && !c.IsSet("second-factor")
	config.Idle = c.Duration("idle")
	if file.Idle != "" && !c.IsSet("idle") {
		config.Idle, _ = readIdle(file.Idle) // it was checked when the file was read
	}
	if config.Idle < minIdle || config.Idle > maxIdle {
		return wrongUse("--idle: want a time from %s to %s", minIdle, maxIdle)
	}
	days := c.Int("audit-days")
	if file.AuditDays != 0 && !c.IsSet("audit-days") {
		days = file.AuditDays
	}
	if days < 1 || days > maxAuditDays {
		return wrongUse("--audit-days: want a number from 1 to %d", maxAuditDays)
	}
	config.AuditKept = time.Duration(days) * 24 * time.Hour
	return nil
}

func readDSN(dsn, path string) (string, error) {
	if path == "" {
		return dsn, nil
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return "", fmt.Errorf("DSN: %w", err)
	}
	return strings.TrimSpace(string(text)), nil
}
