package command

import (
	"fmt"
	"net/netip"
	"os"
	"strings"

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
}

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
		if _, err := readPublic(network); err != nil {
			doc.Refuse(fmt.Sprintf("$.public[%d]", i), "%v", err)
		}
	}
	if s.SpoolLimit < 0 {
		doc.Refuse("$.spoolLimit", "want a number of bytes above 0")
	}
	if err := doc.Faults.Err(); err != nil {
		return s, &useError{err.Error()}
	}
	return s, nil
}

func readPublic(text string) (netip.Prefix, error) {
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
	public := file.Public
	if c.IsSet("public") {
		public = c.StringSlice("public")
	}
	for _, network := range public {
		p, err := readPublic(network)
		if err != nil {
			return config, wrongUse("--public: %v", err)
		}
		config.Public = append(config.Public, p)
	}
	config.DSN, err = readDSN(text("dsn", file.DSN), text("dsn-file", file.DSNFile))
	return config, err
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
