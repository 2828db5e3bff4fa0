package estate

import (
	"strings"
	"testing"
)

func TestSettingsPointToRecords(t *testing.T) {
	fresh, err := newSettings(Options{Organisation: "Tern Bay Ferries"})
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{"new": string(fresh), "no section": "[organisation]\nname = \"x\"\n",
		"no key":        "[storage]\n[organisation]\nname = \"x\"\n",
		"records alone": "[storage]\nrecords = \"records.db\"\n\n[organisation]\nname = \"x\"\n",
		"a name alike":  "[organisation]\nname = \"records = read\"\n[storage]\nrecords = \"a\" # read\n"} {
		t.Run(name, func(t *testing.T) {
			for _, to := range []Storage{{Records: "records.db"}, {Records: "postgresql:///a?b=c&d=e"},
				{Records: "postgresql:///a", Read: "postgresql:///b"}} {
				out, err := pointed(text, to)
				if err != nil {
					t.Fatalf("%v: %v", to, err)
				}
				if strings.Contains(out, `\u0026`) || !strings.Contains(out, "name") {
					t.Errorf("%s", out)
				}
				if back, err := pointed(out, Storage{Records: "records.db"}); err != nil || strings.Contains(back,
					"postgresql:///") {
					t.Errorf("%v: %s", err, back)
				}
			}
		})
	}
}
