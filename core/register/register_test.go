package register

import (
	"archive/zip"
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"reflect"
	"runtime"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"
	unicode16 "golang.org/x/text/encoding/unicode"

	"airdrift/core/fault"
	"airdrift/core/hwaddr"
)

func TestReadAnyOrderAndSeparator(t *testing.T) {
	want := Entry{Name: "palm house climate", MAC: hwaddr.MustParse("48:9b:34:01:02:03"), Addr: netip.MustParseAddr("10.40.2.10")}
	for _, text := range []string{
		"name,mac,address\npalm house climate,48:9b:34:01:02:03,10.40.2.10\n",
		"IP address;Device name;MAC Address\r\n10.40.2.10;palm house climate;48-9B-34-01-02-03\r\n",
		"\xef\xbb\xbfHost\tPhysical address\tIP\npalm house climate\t489b.3401.0203\t10.40.2.10\n",
		"name,mac,address\n\n \"palm house climate\", 489b34010203 ,\"10.40.2.10\"\n",
	} {
		got, err := Read("x.csv", strings.NewReader(text))
		if err != nil || len(got) != 1 || got[0].Name != want.Name || got[0].MAC != want.MAC || got[0].Addr != want.Addr {
			t.Errorf("%q reads as %+v, %v", text, got, err)
		}
	}
}

func TestReadKeepsColumnsOfTheSite(t *testing.T) {
	got, err := Read("x.csv", strings.NewReader("name,Key cabinet\nvault door,K7\n"))
	if err != nil || got[0].Extra["Key cabinet"] != "K7" {
		t.Errorf("got %+v, %v", got, err)
	}
}

func TestReadTellsEveryFaultWithItsPlace(t *testing.T) {
	text := "name,mac,address\n" +
		"a,48:9b:34:01:02:03,10.40.2.10\n" +
		"b,48:9b:34:01:02,10.40.2.11\n" +
		"c,,10.40.2.300\n" +
		"d,48:9b:34:01:02:03,\n" +
		",,\n" +
		"e,48:9b:34:01:02:05\n" +
		"f,ff:ff:ff:ff:ff:ff,\n" +
		"\xff,,10.40.2.12\n"
	entries, err := Read("x.csv", strings.NewReader(text))
	var list *fault.List
	if !errors.As(err, &list) || entries != nil {
		t.Fatalf("got %v entries and %v, want none and a list of faults", entries, err)
	}
	want := []struct {
		line, column int
		why          string
	}{
		{3, 2, "not a MAC address"}, {4, 3, "not an IP address"}, {5, 0, "line 2 already"}, {6, 0, "names no device"},
		{7, 0, "2 fields"}, {8, 2, "not the MAC address of one device"}, {9, 1, "UTF-8"},
	}
	if len(list.Faults) != len(want) {
		t.Fatalf("got %d faults, want %d:\n%v", len(list.Faults), len(want), err)
	}
	for i, w := range want {
		f := list.Faults[i]
		if f.Line != w.line || f.Column != w.column || !strings.Contains(f.Why, w.why) {
			t.Errorf("fault %d is %q, want line %d, column %d, saying %q", i, f, w.line, w.column, w.why)
		}
	}
}

func TestReadRefusesWholeFiles(t *testing.T) {
	for text, why := range map[string]string{
		"":                         "empty",
		"colour,weight\nred,3\n":   "which device",
		"name,device\na,b\n":       "means the same",
		"name,mac\n":               "no device",
		"name\n\"unclosed\nand on": "not CSV",
	} {
		if _, err := Read("x.csv", strings.NewReader(text)); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%q gave %v, want a fault saying %q", text, err, why)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add("name,mac,address\na,48:9b:34:01:02:03,10.40.2.10\n")
	f.Add("ip;x\n\"1.2.3.4\";y")
	f.Fuzz(func(t *testing.T, text string) {
		entries, err := Read("", strings.NewReader(text))
		if (err == nil) == (len(entries) == 0) {
			t.Errorf("%d entries and error %v", len(entries), err)
		}
		for _, e := range entries {
			if e.Name == "" && e.MAC.IsZero() && !e.Addr.IsValid() {
				t.Errorf("an entry that names nothing was taken from %q", text)
			}
		}
	})
}

// workbook makes an .xlsx file of rows.
func workbook(t testing.TB, rows ...[]any) []byte {
	t.Helper()
	book := excelize.NewFile()
	for i, row := range rows {
		if err := book.SetSheetRow("Sheet1", fmt.Sprintf("A%d", i+1), &row); err != nil {
			t.Fatal(err)
		}
	}
	var out bytes.Buffer
	if err := book.Write(&out); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func TestReadWorkbook(t *testing.T) {
	file := workbook(t, []any{"Device", "MAC address", "Room", "Shelf"}, []any{"vault door", "54:be:2c:03:30:14", "vault"}, nil, []any{"", "54-BE-2C-03-30-15", "", 7})
	entries, err := Read("register.xlsx", bytes.NewReader(file))
	if err != nil || len(entries) != 2 || entries[0].Location != "vault" || entries[1].Extra["Shelf"] != "7" {
		t.Errorf("read %+v, %v", entries, err)
	}
	faulty := workbook(t, []any{"name", "mac"}, []any{"a", "zz"})
	if _, err := Read("", bytes.NewReader(faulty)); err == nil || !strings.Contains(err.Error(), "line 2, column 2 (mac)") {
		t.Errorf("a faulty cell gave %v", err)
	}
	for name, file := range map[string][]byte{"cut off": file[:len(file)/2], "only a beginning": []byte("PK\x03\x04 and so on"), "an empty sheet": workbook(t)} {
		if entries, err := Read("", bytes.NewReader(file)); err == nil || len(entries) > 0 {
			t.Errorf("%s gave %+v, %v", name, entries, err)
		}
	}
}

func TestReadUTF16(t *testing.T) {
	text := "name;address\nKühlhaus Süd;10.40.2.10\n"
	for name, order := range map[string]unicode16.Endianness{"little": unicode16.LittleEndian, "big": unicode16.BigEndian} {
		raw, err := unicode16.UTF16(order, unicode16.UseBOM).NewEncoder().String(text)
		if err != nil {
			t.Fatal(err)
		}
		entries, err := Read("", strings.NewReader(raw))
		if err != nil || len(entries) != 1 || entries[0].Name != "Kühlhaus Süd" {
			t.Errorf("%s-endian: %+v, %v", name, entries, err)
		}
	}
}

func TestReadPartialLeavesOutFaultyLines(t *testing.T) {
	entries, faults := ReadPartial("", strings.NewReader("name,mac,address\nfine,48:9b:34:00:00:01,10.40.1.1\nbad,zz,nowhere\nshort,48:9b:34:00:00:02\nalso fine,,10.40.1.2\n"))
	if len(entries) != 2 || entries[1].Name != "also fine" || faults.Count() != 3 || faults.Lines() != 2 {
		t.Errorf("read %+v with %d faults in %d lines", entries, faults.Count(), faults.Lines())
	}
	if entries, faults := ReadPartial("", strings.NewReader("room,floor\na,b\n")); len(entries) > 0 || faults.Count() == 0 {
		t.Errorf("a table that names no device gave %+v", entries)
	}
	if entries, faults := ReadPartial("", strings.NewReader("name,mac\nfine,48:9b:34:00:00:01\n\"never closed\n")); len(entries) > 0 || faults.Count() == 0 {
		t.Errorf("a table that cannot be read to its end gave %+v", entries)
	}
}

func TestWhatIsWrittenReadsBack(t *testing.T) {
	entries := []Entry{
		{Name: "=1+1", MAC: hwaddr.MustParse("48:9b:34:00:00:01"), Addr: netip.MustParseAddr("10.40.1.1"), Vendor: "Thornquist, Controls", Note: "two\nlines", Extra: map[string]string{"Shelf": "-7"}},
		{Addr: netip.MustParseAddr("fd00::1"), Location: "vault"},
	}
	var out bytes.Buffer
	if err := Write(&out, entries); err != nil {
		t.Fatal(err)
	}
	if strings.Contains(out.String(), "\n=1") {
		t.Errorf("a formula is written: %s", out.String())
	}
	again, err := Read("", &out)
	if err != nil || !reflect.DeepEqual(again, entries) {
		t.Errorf("read back\n%+v, %v, want\n%+v", again, err, entries)
	}
}

// A register of the largest size is read within bounds: what is kept of a line is what the entry holds.
func TestTheLargestRegisterFitsInMemory(t *testing.T) {
	lines := func(n int) io.Reader {
		in, out := io.Pipe()
		go func() {
			w := bufio.NewWriter(out)
			fmt.Fprintln(w, "name,mac,address,vendor,model,location")
			for i := range n {
				fmt.Fprintf(w, "device %d,48:9b:34:%02x:%02x:%02x,10.%d.%d.%d,Thornquist Controls,climate-900,palm house\n", i, i>>16&255, i>>8&255, i&255, i>>16&255, i>>8&255, i&255)
			}
			out.CloseWithError(w.Flush())
		}()
		return in
	}
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	entries, err := Read("", lines(MaxEntries))
	runtime.GC()
	runtime.ReadMemStats(&after)
	if err != nil || len(entries) != MaxEntries {
		t.Fatalf("%d entries, %v", len(entries), err)
	}
	if each := (int64(after.HeapAlloc) - int64(before.HeapAlloc)) / MaxEntries; each > 600 {
		t.Errorf("%d bytes are kept of each entry", each)
	}
	runtime.KeepAlive(entries)
	if _, err := Read("", lines(MaxEntries+1)); err == nil || !strings.Contains(err.Error(), "at most 200000 devices") {
		t.Errorf("one more gave %v", err)
	}
}

// Small workbooks that unpack to far more, or have columns without end, are refused before they cost much.
func TestHostileWorkbooksCostLittle(t *testing.T) {
	plain := workbook(t, []any{"name", "mac"}, []any{"a", "48:9b:34:00:00:01"})
	rows := func(cell string, count int) string {
		var text strings.Builder
		text.WriteString(`<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData>`)
		for i := range count {
			fmt.Fprintf(&text, `<row r="%d"><c r="%s%d" t="inlineStr"><is><t>x</t></is></c></row>`, i+1, cell, i+1)
		}
		return text.String() + `</sheetData></worksheet>`
	}
	for name, bomb := range map[string][]byte{
		"columns without end": with(t, plain, "xl/worksheets/sheet1.xml", rows("XFD", 60_000)),
		"styles":              with(t, plain, "xl/styles.xml", strings.Repeat(" ", 300<<20)),
		"texts":               with(t, plain, "xl/sharedStrings.xml", `<sst xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main">`+strings.Repeat("<si><t>x</t></si>", 20<<20)+`</sst>`),
		"entities":            with(t, plain, "xl/workbook.xml", `<!DOCTYPE x [<!ENTITY a "`+strings.Repeat("a", 1<<20)+`">]><workbook>`+strings.Repeat("&a;", 1000)+`</workbook>`),
		"deep elements":       with(t, plain, "xl/workbook.xml", strings.Repeat("<a>", 600_000)),
	} {
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		_, err := Read("", bytes.NewReader(bomb))
		runtime.ReadMemStats(&after)
		if err == nil {
			t.Errorf("%s: no error", name)
		}
		if cost := (after.TotalAlloc - before.TotalAlloc) >> 20; cost > 250 {
			t.Errorf("%s: a workbook of %d KiB cost %d MiB", name, len(bomb)>>10, cost)
		}
	}
	if _, err := Read("", bytes.NewReader(with(t, plain, "xl/extra.bin", "harmless"))); err != nil {
		t.Errorf("a workbook with one part more gave %v", err)
	}
	wide := "name" + strings.Repeat(",x", 300) + "\n"
	if _, err := Read("", strings.NewReader(wide)); err == nil || !strings.Contains(err.Error(), "columns") {
		t.Errorf("CSV of 300 columns gave %v", err)
	}
}

// with gives a workbook with one part put in the place of its own.
func with(t *testing.T, book []byte, name, content string) []byte {
	t.Helper()
	in, err := zip.NewReader(bytes.NewReader(book), int64(len(book)))
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	archive := zip.NewWriter(&out)
	for _, part := range in.File {
		if part.Name != name {
			if err := archive.Copy(part); err != nil {
				t.Fatal(err)
			}
		}
	}
	part, err := archive.Create(name)
	if err != nil {
		t.Fatal(err)
	}
	_, err = io.WriteString(part, content)
	if err := errors.Join(err, archive.Close()); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func FuzzReadWorkbook(f *testing.F) {
	f.Add(workbook(f, []any{"name", "mac"}, []any{"a", "48:9b:34:00:00:01"}))
	f.Add([]byte("PK\x03\x04"))
	f.Fuzz(func(t *testing.T, file []byte) {
		entries, faults := ReadPartial("", bytes.NewReader(file))
		if len(entries) == 0 && faults.Count() == 0 {
			t.Error("neither an entry nor a fault")
		}
	})
}
