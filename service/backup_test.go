package service_test

import (
	"bytes"
	"compress/gzip"
	"errors"
	"io"
	"slices"
	"strings"
	"testing"

	"airdrift/api"
	"airdrift/client"
	"airdrift/service"
	"airdrift/service/servicetest"
	"airdrift/store"
	"airdrift/store/storetest"
)

// What was backed up is there again in another data directory: devices, what was seen, notes, the register and people.
func TestBackupAndRestore(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	sweepOf(t, s, "10.40.1.1-60")
	before := devicesOf(t, s)
	if err := s.Client.SetNote(t.Context(), before[3].ID, "behind the \u2603"); err != nil {
		t.Fatal(err)
	}
	var backup bytes.Buffer
	if err := s.Client.Backup(t.Context(), &backup); err != nil {
		t.Fatal(err)
	}
	restored := service.InstanceConfig{Data: servicetest.DataDir(t), DSN: storetest.DSN(t)}
	for name, damaged := range damages(t, backup.Bytes()) {
		if err := service.Restore(t.Context(), restored, bytes.NewReader(damaged)); !errors.Is(err, store.ErrBackup) {
			t.Errorf("a backup that is %s gives %v", name, err)
		}
	}
	if err := service.Restore(t.Context(), restored, bytes.NewReader(backup.Bytes())); err != nil {
		t.Fatal(err)
	}
	if err := service.Restore(t.Context(), restored, bytes.NewReader(backup.Bytes())); err == nil || !strings.Contains(err.Error(), "in use") {
		t.Errorf("restored over what is there: %v", err)
	}
	restored.Listen, restored.Vantages = "127.0.0.1:0", service.FixedVantages{}
	in, err := service.Run(t.Context(), restored)
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	cl := client.Local(restored.Data)
	after, err := cl.Devices(t.Context(), s.Site.ID, client.DeviceQuery{Limit: 1000})
	if err != nil || len(after.Items) != len(before) {
		t.Fatalf("%d of %d devices are there, %v", len(after.Items), len(before), err)
	}
	device, err := cl.Device(t.Context(), before[3].ID)
	if err != nil || device.Note != "behind the \u2603" || len(device.Evidence) == 0 {
		t.Errorf("the device is %+v, %v", device, err)
	}
	want, err := s.Client.Sightings(t.Context(), 1)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := cl.Sightings(t.Context(), 1); err != nil || len(got) != len(want) {
		t.Errorf("%d of %d sightings are there, %v", len(got), len(want), err)
	}
	if _, err := cl.CreateUser(t.Context(), api.NewUser{Name: "administrator", Role: "look", Password: "a long password"}); err == nil {
		t.Error("the administrator is not there")
	}
}

// damages gives a backup that was damaged in several ways.
func damages(t *testing.T, backup []byte) map[string][]byte {
	t.Helper()
	unpacked, err := gzip.NewReader(bytes.NewReader(backup))
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(unpacked)
	if err != nil {
		t.Fatal(err)
	}
	pack := func(text string) []byte {
		var out bytes.Buffer
		w := gzip.NewWriter(&out)
		_, _ = io.WriteString(w, text)
		_ = w.Close()
		return out.Bytes()
	}
	lines := strings.SplitAfter(string(text), "\n")
	lastRow := 0
	for i, line := range lines {
		if strings.HasPrefix(line, `{"row":`) {
			lastRow = i
		}
	}
	const columns = `"columns":["id","site_id","name","subnet",`
	if lastRow == 0 || !strings.Contains(string(text), columns) {
		t.Fatal("the backup has no rows, or no networks")
	}
	return map[string][]byte{
		"cut off":              backup[:len(backup)/2],
		"not compressed":       text,
		"something else":       pack("No,Address\n"),
		"of a newer form":      pack(strings.Replace(string(text), `"version":1`, `"version":9`, 1)),
		"of other tables":      pack(strings.Replace(string(text), `"tables":"`, `"tables":"9`, 1)),
		"without its end":      pack(strings.Join(lines[:len(lines)-2], "")),
		"without a row":        pack(strings.Join(slices.Delete(slices.Clone(lines), lastRow, lastRow+1), "")),
		"with a strange table": pack(strings.Replace(string(text), `"table":"networks"`, `"table":"mysql.user"`, 1)),
		"with other columns":   pack(strings.Replace(string(text), columns, `"columns":["id","site_id","name","subnet) SELECT 1 -- ",`, 1)),
	}
}
