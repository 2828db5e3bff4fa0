//go:build linux

package peers

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// grammarReader prints what of each file the grammar of PowerShell does not take. One run reads all, as the
// grammar takes long to load.
const grammarReader = `import fs from 'fs';
import { pathToFileURL } from 'url';
const [, , dir, ...files] = process.argv;
const { Parser, Language } = await import(pathToFileURL(dir + '/node_modules/web-tree-sitter/web-tree-sitter.js'));
await Parser.init();
const parser = new Parser();
parser.setLanguage(await Language.load(dir + '/node_modules/tree-sitter-powershell/tree-sitter-powershell.wasm'));
for (const file of files) {
  const walk = n => {
    if (n.isError || n.isMissing) console.log(file + ':', n.startPosition.row + 1, n.text.slice(0, 80));
    n.children.forEach(walk);
  };
  walk(parser.parse(fs.readFileSync(file, 'utf8')).rootNode);
}
`

// The script for Windows cannot run here. A grammar that others wrote takes the whole of it,
// and not what is spoiled.
func TestTheWindowsScriptIsPowerShell(t *testing.T) {
	long(t)
	node, dir := peer(t, "node"), os.Getenv("IRONSEAL_GRAMMAR")
	_, err := os.Stat(filepath.Join(dir, "node_modules/web-tree-sitter/web-tree-sitter.js"))
	if dir == "" || err != nil {
		if os.Getenv("CI") == "true" {
			t.Fatal("the grammar of PowerShell is not here: .ci/run fetches it")
		}
		t.Skip("the grammar of PowerShell is not here: .ci/run fetches it, and sets IRONSEAL_GRAMMAR")
	}
	e := newEstate(t, "ecdsa-p256")
	e.do("trust", "kit", "--for", "windows", "--out", "../kits")
	good, err := os.ReadFile(e.path("kits/own.windows/trust.ps1"))
	if err != nil {
		t.Fatal(err)
	}
	guide, err := os.ReadFile("../../docs/guide.md")
	if err != nil {
		t.Fatal(err)
	}
	var typed string
	for _, block := range strings.Split(string(guide), "```powershell\n")[1:] {
		lines, _, _ := strings.Cut(block, "```")
		typed += lines
	}
	if strings.Count(typed, "\n") < 5 {
		t.Errorf("the guide has %q for PowerShell", typed)
	}
	reader := write(t, e.path("read.mjs"), grammarReader)
	out, err := exec.Command(node, reader, dir, write(t, e.path("script.ps1"), string(good)),
		write(t, e.path("guide.ps1"), typed), write(t, e.path("spoiled.ps1"), "try { 1 } catch 2\n")).CombinedOutput()
	if err != nil || !bytes.Contains(out, []byte("spoiled.ps1:")) || bytes.Contains(out, []byte("script.ps1:")) ||
		bytes.Contains(out, []byte("guide.ps1:")) {
		t.Errorf("%v\n%s", err, out)
	}
}
