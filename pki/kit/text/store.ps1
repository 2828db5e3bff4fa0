# Puts the roots of @MARK@ into this machine's store, takes them out, or says whether they
# are there. Run twice it does no more than run once. It touches no other certificate.
#
#   powershell -ExecutionPolicy Bypass -File trust.ps1 install [-DryRun] [-Report FILE]
#   powershell -ExecutionPolicy Bypass -File trust.ps1 remove  [-DryRun] [-Report FILE]
#   powershell -ExecutionPolicy Bypass -File trust.ps1 check   [-Report FILE]
#
# Exit status: 0 done, or all there; 1 failed; 2 wrong usage; 4 (check) not all there.
param([string]$Act = '', [switch]$DryRun, [string]$Report = '')
Set-StrictMode -Version 2
$ErrorActionPreference = 'Stop'

# file and SHA-256 fingerprint of each root
$anchors = @'
@ANCHORS@
'@

function Fail([string]$text) { [Console]::Error.WriteLine("trust.ps1: $text"); exit 1 }

if (@('install', 'remove', 'check') -notcontains $Act) {
	[Console]::Error.WriteLine('use: trust.ps1 install|remove|check [-DryRun] [-Report FILE]')
	exit 2
}

$sha = [Security.Cryptography.SHA256]::Create()
function Sum([byte[]]$bytes) { ([BitConverter]::ToString($sha.ComputeHash($bytes)) -replace '-', '').ToLower() }

# Every file is read and compared before the store is touched.
$wanted = @()
foreach ($line in ($anchors -split "`r?`n")) {
	if (-not $line.Trim()) { continue }
	$name, $sum = $line.Trim() -split ' '
	$path = Join-Path $PSScriptRoot $name
	if (-not (Test-Path -LiteralPath $path)) { Fail "$name is missing beside this script" }
	$bytes = [IO.File]::ReadAllBytes($path)
	if ((Sum $bytes) -ne $sum) { Fail "$name is not the file of this kit: nothing was changed" }
	$wanted += New-Object PSObject -Property @{
		Name = $name; Sum = $sum
		Certificate = New-Object Security.Cryptography.X509Certificates.X509Certificate2(, $bytes)
	}
}

$store = New-Object Security.Cryptography.X509Certificates.X509Store('Root', 'LocalMachine')
try {
	if ($Act -eq 'check' -or $DryRun) { $store.Open('ReadOnly') } else { $store.Open('ReadWrite') }
} catch { Fail "the machine's store cannot be opened: administrator rights are needed ($($_.Exception.Message))" }

# What this script puts into the store has this name there, by which it is known again.
$ours = 'roots of @MARK@, set @SET@'

$changed = $false
$missing = $false
$absent = @()
try {
	foreach ($w in $wanted) {
		$there = $false
		$put = $false
		foreach ($c in $store.Certificates) {
			if ((Sum $c.RawData) -eq $w.Sum) {
				$there = $true
				$put = $c.FriendlyName -eq $ours
			}
		}
		switch ($Act) {
			'install' {
				if (-not $there) {
					Write-Output "install $($w.Name)"
					$changed = $true
					if (-not $DryRun) {
						$w.Certificate.FriendlyName = $ours
						$store.Add($w.Certificate)
					}
				}
			}
			'remove' {
				if ($there -and -not $put) {
					Write-Output "leave $($w.Name): it was there before, or another kit put it there"
				} else { $absent += $w.Sum }
				if ($there -and $put) {
					Write-Output "remove $($w.Name)"
					$changed = $true
					if (-not $DryRun) { $store.Remove($w.Certificate) }
				}
			}
			'check' {
				if ($there) { Write-Output "there    $($w.Name)" } else {
					Write-Output "missing  $($w.Name)"
					$missing = $true
					$absent += $w.Sum
				}
			}
		}
	}
} catch { Fail "the store refused: $($_.Exception.Message)" } finally { $store.Close() }
if (-not $changed -and $Act -ne 'check') { Write-Output 'nothing to do' }

if ($Report) {
	$line = @{ host = [Environment]::MachineName; platform = '@PLATFORM@'; store = 'LocalMachine\Root'; act = $Act
		complete = $absent.Count -eq 0; missing = @($absent); sha256 = @($wanted | ForEach-Object { $_.Sum })
		when = [DateTime]::UtcNow.ToString('yyyy-MM-ddTHH:mm:ssZ') } | ConvertTo-Json -Compress
	[IO.File]::WriteAllText($Report, "$line`n")
}
if ($missing) { exit 4 }
exit 0
