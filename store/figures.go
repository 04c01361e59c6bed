package store

import "context"

// DeviceFigure is how many devices of a site are of one standing and kind.
type DeviceFigure struct {
	Site     string
	Standing string
	Kind     string
	Devices  int
}

// FindingFigure is how many findings of a site are of one severity and state.
type FindingFigure struct {
	Site     string
	Severity int
	State    string
	Findings int
}

// SweepFigure is how many sweeps of a site are in one state.
type SweepFigure struct {
	Site   string
	State  string
	Sweeps int
}

// Figures are what is at all sites, counted.
type Figures struct {
	Devices  []DeviceFigure
	Findings []FindingFigure
	Sweeps   []SweepFigure
}

// Figures counts what is at all sites.
func (s *Store) Figures(ctx context.Context) (f Figures, err error) {
	for _, count := range []struct {
		query string
		into  any
	}{
		{"SELECT s.name AS site, d.standing, d.kind, COUNT(*) AS devices FROM devices d JOIN sites s ON s.id = d.site_id GROUP BY s.name, d.standing, d.kind", &f.Devices},
		{"SELECT s.name AS site, f.severity, f.state, COUNT(*) AS findings FROM findings f JOIN sites s ON s.id = f.site_id GROUP BY s.name, f.severity, f.state", &f.Findings},
		{"SELECT s.name AS site, w.state, COUNT(*) AS sweeps FROM sweeps w JOIN sites s ON s.id = w.site_id GROUP BY s.name, w.state", &f.Sweeps},
	} {
		if err := s.db.WithContext(ctx).Raw(count.query).Scan(count.into).Error; err != nil {
			return f, own(err, "figures")
		}
	}
	return f, nil
}
