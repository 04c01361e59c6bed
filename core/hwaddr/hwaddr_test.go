package hwaddr

import "testing"

func TestParseForms(t *testing.T) {
	want := MAC{0x3c, 0x5a, 0xb4, 0x01, 0x02, 0xff}
	for _, text := range []string{"3c:5a:b4:01:02:ff", "3C-5A-B4-01-02-FF", "3c5a.b401.02ff", " 3C5AB40102FF "} {
		got, err := Parse(text)
		if err != nil || got != want {
			t.Errorf("Parse(%q) = %v, %v; want %v", text, got, err, want)
		}
	}
	for _, text := range []string{"", "3c:5a:b4:01:02", "3c:5a:b4:01:02:fg", "3c:5a:b4:01:02:ff:00:11"} {
		if got, err := Parse(text); err == nil {
			t.Errorf("Parse(%q) = %v, want an error", text, got)
		}
	}
}

func TestKindsOfAddress(t *testing.T) {
	tests := []struct {
		text                   string
		group, private, shared bool
	}{
		{"3c:5a:b4:01:02:03", false, false, false},
		{"da:a1:19:00:00:01", false, true, false},
		{"01:00:5e:00:00:fb", true, false, false},
		{"00:00:5e:00:01:0a", false, false, true},
		{"00:00:0c:07:ac:01", false, false, true},
		{"00:00:0c:9f:f0:01", false, false, true},
		{"00:00:5e:00:53:01", false, false, false},
	}
	for _, tt := range tests {
		m := MustParse(tt.text)
		if m.IsGroup() != tt.group || m.IsPrivate() != tt.private || m.IsShared() != tt.shared {
			t.Errorf("%s: group %v private %v shared %v; want %v %v %v", tt.text,
				m.IsGroup(), m.IsPrivate(), m.IsShared(), tt.group, tt.private, tt.shared)
		}
	}
}

func TestTextRoundTrip(t *testing.T) {
	for _, m := range []MAC{{}, MustParse("3c:5a:b4:01:02:03")} {
		text, _ := m.MarshalText()
		var got MAC
		if err := got.UnmarshalText(text); err != nil || got != m {
			t.Errorf("round trip of %v through %q gave %v, %v", m, text, got, err)
		}
	}
}
