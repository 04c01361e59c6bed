package store

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"airdrift/core/evidence"
	"airdrift/core/finding"
	"airdrift/core/ledger"
)

type unjudgedRow struct {
	SiteID   uint64
	DeviceID uint64
}

func (unjudgedRow) TableName() string { return "unjudged" }

type unjudgedGroupRow struct {
	SiteID uint64
	Rule   string
	Grp    string
}

func (unjudgedGroupRow) TableName() string { return "unjudged_groups" }

type markRow struct {
	ID       uint64
	SiteID   uint64
	DeviceID uint64
	Rule     string
	Grp      string
	Value    string
}

func (markRow) TableName() string { return "finding_marks" }

type judgedRow struct {
	DeviceID uint64 `gorm:"primaryKey"`
	SiteID   uint64
	SweepID  uint64
	Due      *time.Time
}

func (judgedRow) TableName() string { return "judged" }

// ignoring leaves rows as they are that are there already.
var ignoring = clause.OnConflict{DoNothing: true}

// markUnjudged notes that devices are to be judged anew.
func markUnjudged(tx *gorm.DB, site uint64, devices []uint64) error {
	rows := make([]unjudgedRow, len(devices))
	for i, id := range devices {
		rows[i] = unjudgedRow{site, id}
	}
	return createMany(tx.Clauses(ignoring), rows)
}

// manySeen is from how many devices on that were seen as they were before they are judged in the background: only how long they took over
// their answers, and what their clocks say, can be other.
const manySeen = 2000

// seenLater is after what time they are due.
const seenLater = time.Minute

// writeUnjudged notes which devices of a result are to be judged anew: those that have changed, those that are no more, and those that were seen
// again.
func (w *writer) writeUnjudged(result *ledger.Result, changed, seen []int, gone []uint64) error {
	ids := slices.Clone(gone)
	for _, i := range changed {
		ids = append(ids, result.Devices[i].ID)
	}
	for _, m := range result.Merges {
		ids = append(ids, m.From)
	}
	again := make([]uint64, len(seen))
	for n, i := range seen {
		again[n] = result.Devices[i].ID
	}
	if len(again) < manySeen {
		return markUnjudged(w.tx, w.site, append(ids, again...))
	}
	for part := range slices.Chunk(again, batchSize) {
		if err := w.tx.Model(&judgedRow{}).Where("device_id IN ?", part).Update("due", time.Now().UTC().Add(seenLater)).Error; err != nil {
			return err
		}
	}
	return markUnjudged(w.tx, w.site, ids)
}

// JudgeAnew notes that all devices of a site are to be judged anew.
func (s *Store) JudgeAnew(ctx context.Context, site uint64) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("INSERT IGNORE INTO unjudged (site_id, device_id) SELECT site_id, id FROM devices WHERE site_id = ?", site).Error; err != nil {
			return err
		}
		// What devices share may be judged otherwise though they share the same still.
		return tx.Exec("INSERT IGNORE INTO unjudged_groups (site_id, rule, grp) SELECT DISTINCT site_id, rule, grp FROM finding_marks WHERE site_id = ?", site).Error
	})
	return own(err, "findings")
}

// JudgeDue notes which devices of a site are to be judged anew as time has passed, and counts what is to be judged.
func (s *Store) JudgeDue(ctx context.Context, site uint64, now time.Time) (due int, err error) {
	err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		for _, mark := range []string{
			"INSERT IGNORE INTO unjudged (site_id, device_id) SELECT site_id, device_id FROM judged WHERE site_id = ? AND due <= ?",
			"INSERT IGNORE INTO unjudged (site_id, device_id) SELECT site_id, subject FROM findings WHERE site_id = ? AND until <= ? AND state = 'accepted' AND grp = ''",
			"INSERT IGNORE INTO unjudged_groups (site_id, rule, grp) SELECT site_id, rule, grp FROM findings WHERE site_id = ? AND until <= ? AND state = 'accepted' AND grp <> ''",
		} {
			if err := tx.Exec(mark, site, now).Error; err != nil {
				return err
			}
		}
		return tx.Raw("SELECT (SELECT COUNT(*) FROM unjudged WHERE site_id = ?) + (SELECT COUNT(*) FROM unjudged_groups WHERE site_id = ?)", site, site).Scan(&due).Error
	})
	return due, own(err, "findings")
}

// judgedAtOnce is how many devices are judged in one transaction.
const judgedAtOnce = 500

// skipLocked locks the rows of what is judged, so that who changes a device meanwhile notes it anew behind that; what another judges is passed over.
var skipLocked = clause.Locking{Strength: "UPDATE", Options: "SKIP LOCKED"}

// Judge judges some of what of a site is to be judged anew: devices first, and then what several share; more tells that there is more of it.
// why says what has changed since they were judged before. It can be broken off anywhere and begun again.
func (s *Store) Judge(ctx context.Context, site uint64, judge *finding.Judge, now time.Time, why finding.Why) (more bool, err error) {
	err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) (err error) {
		j := &judging{tx: tx, site: site, judge: judge, now: now, why: why, sweeps: map[uint64]uint64{}}
		if more, err = j.devices(); err == nil && !more {
			more, err = j.groups()
		}
		return err
	})
	return more, own(err, "findings")
}

// judging is one transaction of it.
type judging struct {
	tx     *gorm.DB
	site   uint64
	judge  *finding.Judge
	now    time.Time
	why    finding.Why
	sweeps map[uint64]uint64 // the last sweep that saw a device
}

func (j *judging) look() finding.Look {
	sweep := func(device uint64) (number uint64, there bool) {
		number, there = j.sweeps[device]
		return number, there
	}
	return finding.Look{At: j.now, Sweep: sweep, Why: j.why}
}

// devices judges some devices, each alone; more tells that there were any.
func (j *judging) devices() (more bool, err error) {
	var ids []uint64
	if err := j.tx.Model(&unjudgedRow{}).Clauses(skipLocked).Where("site_id = ?", j.site).Order("device_id").Limit(judgedAtOnce).Pluck("device_id", &ids).Error; err != nil || len(ids) == 0 {
		return false, err
	}
	cases, err := j.cases(ids)
	if err != nil {
		return false, err
	}
	var remarks []finding.Remark
	var marks []markRow
	var judged []judgedRow
	for _, c := range cases {
		ruling := j.judge.Of(c)
		remarks = append(remarks, ruling.Remarks...)
		for _, m := range ruling.Marks {
			marks = append(marks, markRow{SiteID: j.site, DeviceID: m.Device, Rule: m.Rule, Grp: m.Group, Value: m.Value})
		}
		judged = append(judged, judgedRow{c.Device.ID, j.site, c.Device.LastSweep, some(ruling.Due, !ruling.Due.IsZero())})
	}
	if err := j.writeMarks(ids, marks); err != nil {
		return false, err
	}
	if err := j.tx.Where("device_id IN ?", ids).Delete(&judgedRow{}).Error; err != nil {
		return false, err
	}
	if err := createMany(j.tx, judged); err != nil {
		return false, err
	}
	before, err := findingsWhere(j.tx, "site_id = ? AND subject IN ? AND grp = ''", j.site, ids)
	if err != nil {
		return false, err
	}
	if err := j.save(finding.Fold(before, remarks, j.look())); err != nil {
		return false, err
	}
	return true, j.tx.Where("site_id = ? AND device_id IN ?", j.site, ids).Delete(&unjudgedRow{}).Error
}

// cases gives what rules look at of some devices. Those that are no more are left out.
func (j *judging) cases(ids []uint64) ([]finding.Case, error) {
	devices, _, err := readDevices(j.tx, nil, "d.id IN ? ORDER BY d.id", ids)
	if err != nil {
		return nil, err
	}
	items, err := itemsOfAll(j.tx, devices)
	if err != nil {
		return nil, err
	}
	cases := make([]finding.Case, len(devices))
	at := map[uint64]int{}
	for i, d := range devices {
		cases[i] = finding.Case{Device: d, Items: items[i], Times: evidence.TimesIn(items[i])}
		at[d.ID], j.sweeps[d.ID] = i, d.LastSweep
	}
	if err := j.addOpened(ids, cases, at); err != nil {
		return nil, err
	}
	return cases, j.addMoves(cases)
}

// addOpened adds which ports were opened since the devices were judged last, and which were remarked before.
func (j *judging) addOpened(ids []uint64, cases []finding.Case, at map[uint64]int) error {
	var rows []struct {
		DeviceID uint64
		Became   string
	}
	err := j.tx.Raw("SELECT c.device_id, c.became FROM changes c JOIN devices d ON d.id = c.device_id LEFT JOIN judged j ON j.device_id = c.device_id "+
		"WHERE c.device_id IN ? AND c.attribute = ? AND c.became <> '' AND c.sweep_id > COALESCE(j.sweep_id, d.last_sweep - 1)", ids, ledger.ChangedPort).Scan(&rows).Error
	if err != nil {
		return err
	}
	for _, r := range rows {
		if i, is := at[r.DeviceID]; is {
			cases[i].Opened = append(cases[i].Opened, r.Became)
		}
	}
	var stand []findingRow
	err = j.tx.Select("subject, about").Where("site_id = ? AND rule = ? AND subject IN ? AND state <> ?", j.site, finding.NewService, ids, finding.Closed).Find(&stand).Error
	for _, r := range stand {
		if i, is := at[r.Subject]; is {
			cases[i].Standing = append(cases[i].Standing, r.About)
		}
	}
	return err
}

// addMoves adds by whom the addresses of devices were held.
func (j *judging) addMoves(cases []finding.Case) error {
	holders := map[string][]int{}
	var addrs [][]byte
	for i, c := range cases {
		for _, a := range c.Device.Addrs[:min(len(c.Device.Addrs), maxMoving)] {
			key := string(sortable(a))
			if holders[key] == nil {
				addrs = append(addrs, []byte(key))
			}
			holders[key] = append(holders[key], i)
		}
	}
	for part := range slices.Chunk(addrs, batchSize) {
		var rows []tenureRow
		if err := j.tx.Where("site_id = ? AND addr IN ?", j.site, part).Find(&rows).Error; err != nil {
			return err
		}
		for _, r := range rows {
			t := r.tenure()
			for _, i := range holders[string(r.Addr)] {
				cases[i].Moves = append(cases[i].Moves, t)
			}
		}
	}
	return nil
}

// maxMoving is at how many addresses of a device it is looked who held them.
const maxMoving = 8

// writeMarks writes what devices share, and notes which of it has changed.
func (j *judging) writeMarks(ids []uint64, marks []markRow) error {
	var before []markRow
	if err := j.tx.Where("device_id IN ?", ids).Find(&before).Error; err != nil {
		return err
	}
	was, is := map[markRow]bool{}, map[markRow]bool{}
	for _, m := range before {
		m.ID = 0
		was[m] = true
	}
	for _, m := range marks {
		is[m] = true
	}
	touched := map[unjudgedGroupRow]bool{}
	var fresh []markRow
	var stale []uint64
	for _, m := range before {
		id := m.ID
		if m.ID = 0; !is[m] {
			stale = append(stale, id)
			touched[unjudgedGroupRow{j.site, m.Rule, m.Grp}] = true
		}
	}
	for m := range is {
		if !was[m] {
			fresh = append(fresh, m)
			touched[unjudgedGroupRow{j.site, m.Rule, m.Grp}] = true
		}
	}
	for part := range slices.Chunk(stale, batchSize) {
		if err := j.tx.Delete(&markRow{}, part).Error; err != nil {
			return err
		}
	}
	if err := createMany(j.tx, fresh); err != nil {
		return err
	}
	groups := make([]unjudgedGroupRow, 0, len(touched))
	for g := range touched {
		groups = append(groups, g)
	}
	return createMany(j.tx.Clauses(ignoring), groups)
}

// groupsAtOnce is how many groups are judged in one transaction.
const groupsAtOnce = 500

// groups judges some of what devices share; more tells that there was any.
func (j *judging) groups() (more bool, err error) {
	var waiting []unjudgedGroupRow
	if err := j.tx.Clauses(skipLocked).Where("site_id = ?", j.site).Order("rule, grp").Limit(groupsAtOnce).Find(&waiting).Error; err != nil || len(waiting) == 0 {
		return false, err
	}
	// Of one rule at a time: pairs of rule and group are not looked up by an index.
	rule := waiting[0].Rule
	var groups []string
	for _, g := range waiting {
		if g.Rule == rule {
			groups = append(groups, g.Grp)
		}
	}
	var marks []struct {
		Mark      markRow `gorm:"embedded"`
		LastSweep uint64
	}
	err = j.tx.Table("finding_marks m").Joins("JOIN devices d ON d.id = m.device_id").Select("m.*, d.last_sweep").
		Where("m.site_id = ? AND m.rule = ? AND m.grp IN ?", j.site, rule, groups).Order("m.grp, m.device_id, m.id").Find(&marks).Error
	if err != nil {
		return false, err
	}
	var remarks []finding.Remark
	for from := 0; from < len(marks); {
		group, to := marks[from].Mark.Grp, from
		var members []finding.Member
		for ; to < len(marks) && marks[to].Mark.Grp == group; to++ {
			m := marks[to]
			j.sweeps[m.Mark.DeviceID] = m.LastSweep
			members = append(members, finding.Member{Device: m.Mark.DeviceID, Value: m.Mark.Value})
		}
		remarks = append(remarks, j.judge.Together(rule, group, members)...)
		from = to
	}
	before, err := findingsWhere(j.tx, "site_id = ? AND rule = ? AND grp IN ?", j.site, rule, groups)
	if err != nil {
		return false, err
	}
	if err := j.addSweeps(before); err != nil {
		return false, err
	}
	if err := j.save(finding.Fold(before, remarks, j.look())); err != nil {
		return false, err
	}
	return true, j.tx.Where("site_id = ? AND rule = ? AND grp IN ?", j.site, rule, groups).Delete(&unjudgedGroupRow{}).Error
}

// addSweeps looks up which sweep has seen the devices of findings last.
func (j *judging) addSweeps(findings []finding.Finding) error {
	wanted := map[uint64]bool{}
	for _, f := range findings {
		for _, d := range f.Devices {
			if _, known := j.sweeps[d]; !known {
				wanted[d] = true
			}
		}
	}
	ids := slices.Collect(maps.Keys(wanted))
	for part := range slices.Chunk(ids, batchSize) {
		var rows []deviceRow
		if err := j.tx.Select("id, last_sweep").Find(&rows, part).Error; err != nil {
			return err
		}
		for _, r := range rows {
			j.sweeps[r.ID] = r.LastSweep
		}
	}
	return nil
}

// save writes findings that are new or have changed.
func (j *judging) save(changed []finding.Finding) error {
	var fresh []findingRow
	var devices [][]uint64
	var known []uint64
	var links []findingDeviceRow
	for _, f := range changed {
		row, err := toFindingRow(j.site, f)
		if err != nil {
			return err
		}
		if f.ID == 0 {
			fresh, devices = append(fresh, row), append(devices, f.Devices)
			continue
		}
		if err := j.tx.Save(&row).Error; err != nil {
			return err
		}
		known = append(known, f.ID)
		for _, d := range f.Devices {
			links = append(links, findingDeviceRow{f.ID, d})
		}
	}
	for part := range slices.Chunk(fresh, batchSize) { // chunks share their memory, so the numbers come into fresh
		if err := j.tx.Create(part).Error; err != nil {
			return err
		}
	}
	for i, row := range fresh {
		for _, d := range devices[i] {
			links = append(links, findingDeviceRow{row.ID, d})
		}
	}
	for part := range slices.Chunk(known, batchSize) {
		if err := j.tx.Where("finding_id IN ?", part).Delete(&findingDeviceRow{}).Error; err != nil {
			return err
		}
	}
	return createMany(j.tx, links)
}

type findingRow struct {
	ID          uint64
	SiteID      uint64
	Rule        string
	Grp         string
	About       string
	Subject     uint64
	Severity    int
	State       string
	Body        string
	Since       time.Time
	SweepID     uint64
	Times       int
	ClosedAt    *time.Time
	ClosedBy    string
	Closing     uint64
	ConfirmedBy string
	ConfirmedAt *time.Time
	AcceptedBy  string
	AcceptedAt  *time.Time
	Reason      string
	Until       *time.Time
}

func (findingRow) TableName() string { return "findings" }

type findingDeviceRow struct {
	FindingID uint64
	DeviceID  uint64
}

func (findingDeviceRow) TableName() string { return "finding_devices" }

// findingBody is what of a finding is looked at together alone.
type findingBody struct {
	Devices  []uint64          `json:"devices"`
	Values   map[string]string `json:"values,omitempty"`
	Evidence []string          `json:"evidence,omitempty"`
}

func toFindingRow(site uint64, f finding.Finding) (findingRow, error) {
	body, err := json.Marshal(findingBody{f.Devices, f.Values, f.Evidence})
	row := findingRow{
		ID: f.ID, SiteID: site, Rule: f.Rule, Grp: f.Group, About: f.About, Subject: f.Key().Device, Severity: int(f.Severity), State: string(f.State), Body: string(body),
		Since: f.Since, SweepID: f.Sweep, Times: f.Times, ClosedAt: some(f.ClosedAt, !f.ClosedAt.IsZero()), ClosedBy: string(f.ClosedBy), Closing: f.Closing,
	}
	if a := f.Accepted; a != nil {
		row.AcceptedBy, row.AcceptedAt, row.Reason, row.Until = a.By, &a.At, a.Reason, &a.Until
	}
	if c := f.Confirmed; c != nil {
		row.ConfirmedBy, row.ConfirmedAt = c.By, &c.At
	}
	return row, err
}

func (r findingRow) finding() (finding.Finding, error) {
	var body findingBody
	err := json.Unmarshal([]byte(r.Body), &body)
	f := finding.Finding{
		ID: r.ID, Remark: finding.Remark{Rule: r.Rule, Severity: finding.Severity(r.Severity), Group: r.Grp, About: r.About, Devices: body.Devices, Alone: r.Subject != 0, Values: body.Values, Evidence: body.Evidence},
		State: finding.State(r.State), Since: r.Since, Sweep: r.SweepID, Times: r.Times, ClosedAt: given(r.ClosedAt), ClosedBy: finding.Why(r.ClosedBy), Closing: r.Closing,
	}
	if r.ConfirmedAt != nil {
		f.Confirmed = &finding.Confirmation{By: r.ConfirmedBy, At: *r.ConfirmedAt}
	}
	if r.Until != nil {
		f.Accepted = &finding.Acceptance{By: r.AcceptedBy, At: given(r.AcceptedAt), Reason: r.Reason, Until: *r.Until}
	}
	return f, err
}

func findingsWhere(db *gorm.DB, where string, args ...any) ([]finding.Finding, error) {
	var rows []findingRow
	if err := db.Where(where, args...).Find(&rows).Error; err != nil {
		return nil, err
	}
	list := make([]finding.Finding, len(rows))
	for i, r := range rows {
		var err error
		if list[i], err = r.finding(); err != nil {
			return nil, err
		}
	}
	return list, nil
}
