# What the plan is written in; it is carried out by the last lines.

$PlanFolder = Join-Path $env:ProgramData 'fundamentum'
$Bytes = [Text.Encoding]::GetEncoding(28591)
$State = @{ Journal = '' }

function Write-PlanLine([string] $Text) {
    Write-Output $Text
}

# A text that was not plain ASCII: for files as the bytes it has there, for commands as it is read.
function Get-PlanBytesText([string] $Encoded) {
    return $Bytes.GetString([Convert]::FromBase64String($Encoded))
}

function Get-PlanText([string] $Encoded) {
    return [Text.Encoding]::UTF8.GetString([Convert]::FromBase64String($Encoded))
}

# Where a path of the plan is on this machine.
function Get-PlanPath([string] $Path) {
    return $Root.TrimEnd('\') + $Path
}

function Get-PlanWord([string] $Word) {
    $expanded = [Environment]::ExpandEnvironmentVariables($Word)
    return $expanded.Replace('C:\', $Root.TrimEnd('\') + '\')
}

function Get-PlanHash([string] $Path) {
    if (-not (Test-Path -LiteralPath $Path)) { return 'absent' }
    return 'sha256:' + (Get-FileHash -Algorithm SHA256 -LiteralPath $Path).Hash.ToLowerInvariant()
}

# The journals of this plan, the newest first.
function Get-PlanJournal {
    if (-not (Test-Path -LiteralPath $PlanFolder)) { return @() }
    $folders = Get-ChildItem -LiteralPath $PlanFolder | Where-Object { $_.Name -like ('*-' + $PlanName) }
    return @($folders | Sort-Object -Property Name -Descending)
}

# What this plan has left files as: a second run finds them so.
function Get-PlanLeft([string] $Path) {
    $left = @()
    foreach ($folder in @(Get-PlanJournal)) {
        $file = Join-Path $folder.FullName 'left.txt'
        if (Test-Path -LiteralPath $file) {
            $left += @(Get-Content -LiteralPath $file | Where-Object { $_.EndsWith(' ' + $Path) })
        }
    }
    return $left
}

function Add-PlanLeft([string] $Path) {
    Add-Content -LiteralPath (Join-Path $State.Journal 'left.txt') -Value ((Get-PlanHash $Path) + ' ' + $Path)
}

# Commands change the machine's configuration: what it is afterwards is as this plan leaves it.
function Add-PlanLeftFacts {
    foreach ($fact in $RestsOn) { Add-PlanLeft (Get-PlanPath $fact[1]) }
}

# Ends with 4, having changed nothing, where a file is neither as it was when this was planned nor as this plan left it.
function Assert-PlanFacts {
    $changed = @()
    foreach ($fact in $RestsOn) {
        $path = Get-PlanPath $fact[1]
        $now = Get-PlanHash $path
        $left = @(Get-PlanLeft $path)
        if (($now -ne $fact[0]) -and ($left -notcontains ($now + ' ' + $path))) { $changed += $path }
    }
    if ($changed.Count -gt 0) {
        Write-PlanLine 'nothing is changed: these files are not as they were when this was planned'
        foreach ($path in $changed) { Write-PlanLine ('  ' + $path) }
        Write-PlanLine 'look at the server again, and plan again'
        exit 4
    }
}

# The journal: made at the first change; undo.ps1 in it is whole at every moment.
function Start-PlanJournal {
    if ($State.Journal -ne '') { return }
    $name = (Get-Date).ToString('yyyyMMdd-HHmmss') + '-' + $PlanName
    $State.Journal = Join-Path $PlanFolder $name
    New-Item -ItemType Directory -Force -Path $State.Journal | Out-Null
    [IO.File]::WriteAllText((Join-Path $State.Journal 'undo.ps1'), "`r`n", [Text.Encoding]::UTF8)
}

# The line takes back what comes next: it is done before all that is in undo.ps1 already.
function Add-PlanUndo([string] $Line) {
    Start-PlanJournal
    $file = Join-Path $State.Journal 'undo.ps1'
    $text = $Line + "`r`n" + [IO.File]::ReadAllText($file, [Text.Encoding]::UTF8)
    $fresh = $file + '.new'
    [IO.File]::WriteAllText($fresh, $text, [Text.Encoding]::UTF8)
    Move-Item -Force -LiteralPath $fresh -Destination $file
}

# What comes next turned out to be so already: the line that was added last takes nothing back.
function Remove-PlanUndo {
    $file = Join-Path $State.Journal 'undo.ps1'
    $text = [IO.File]::ReadAllText($file, [Text.Encoding]::UTF8)
    [IO.File]::WriteAllText($file, $text.Substring($text.IndexOf("`n") + 1), [Text.Encoding]::UTF8)
}

function Get-PlanQuoted([string] $Text) {
    return "'" + $Text.Replace("'", "''") + "'"
}

# Keeps a copy of a file, and the line that puts it back; of a file that is not there, the line that takes it away.
function Save-PlanFile([string] $Path) {
    Start-PlanJournal
    $target = Get-PlanQuoted $Path
    if (-not (Test-Path -LiteralPath $Path)) {
        Add-PlanUndo ('if (Test-Path -LiteralPath ' + $target + ') { Remove-Item -LiteralPath ' + $target + ' }')
        return
    }
    $number = @(Get-ChildItem -LiteralPath $State.Journal).Count
    $copy = Join-Path $State.Journal ('copy-' + $number)
    Copy-Item -LiteralPath $Path -Destination $copy
    Add-PlanUndo ('Copy-Item -Force -LiteralPath ' + (Get-PlanQuoted $copy) + ' -Destination ' + $target)
}

# A file is written beside its place and put there in one go; what may be done with it stays as it is.
function Set-PlanContent([string] $Path, [string] $Text) {
    if (Test-Path -LiteralPath $Path) {
        Save-PlanFile $Path
        $fresh = $Path + '.fundamentum-new'
        [IO.File]::WriteAllText($fresh, $Text, $Bytes)
        [IO.File]::Replace($fresh, $Path, [NullString]::Value)
    } else {
        Save-PlanFile $Path
        [IO.File]::WriteAllText($Path, $Text, $Bytes)
    }
    Add-PlanLeft $Path
}

# Lines of a file; each hunk has the number of a line, the line as it was, and those that stand in its place.
# A line that is not there as the plan knows it, and not as the plan leaves it either, stops everything.
function Edit-PlanFile([string] $Path, [string] $Sample, [object[]] $Hunks) {
    $file = Get-PlanPath $Path
    $from = $file
    if (-not (Test-Path -LiteralPath $file)) {
        if ($Sample -eq '') { throw ($file + ' is not there') }
        $from = Get-PlanPath $Sample
        Write-PlanLine ('  copy ' + $from + ' to ' + $file)
    } elseif (($Sample -ne '') -and (@(Get-PlanLeft $file).Count -eq 0)) {
        throw ($file + ' is there now, and was not when this was planned')
    }
    $lines = New-Object System.Collections.ArrayList
    $lines.AddRange([regex]::Split([IO.File]::ReadAllText($from, $Bytes), '(?<=\n)'))
    $shift = 0
    $changes = 0
    foreach ($hunk in $Hunks) {
        $at = $hunk[0] - 1 + $shift
        $after = @($hunk[2])
        $old = $hunk[1]
        $count = 1
        if ($null -eq $old) { $at += 1; $count = 0 }
        $there = ($lines.Count -ge ($at + $after.Count))
        for ($i = 0; $there -and ($i -lt $after.Count); $i++) {
            $there = (([string] $lines[$at + $i]).TrimEnd("`r", "`n") -ceq $after[$i])
        }
        if ($there) { $shift += $after.Count - $count; continue }
        if ($null -ne $old) {
            if (($at -ge $lines.Count) -or (([string] $lines[$at]).TrimEnd("`r", "`n") -cne $old)) {
                throw ($from + ' has another line ' + ($at + 1) + ' than when this was planned')
            }
            $lines.RemoveAt($at)
            Write-PlanLine ('  -' + $old)
        } elseif (($at -gt 0) -and (-not ([string] $lines[$at - 1]).EndsWith("`n"))) {
            if ($lines[$at - 1] -eq '') { $lines.RemoveAt($at - 1); $at -= 1 }
            else { $lines[$at - 1] = [string] $lines[$at - 1] + "`r`n" }
        }
        foreach ($line in $after) {
            $lines.Insert($at, $line + "`r`n")
            $at += 1
            Write-PlanLine ('  +' + $line)
        }
        $shift += $after.Count - $count
        $changes += 1
    }
    if (($changes -eq 0) -and ($from -eq $file)) { Write-PlanLine '  is so already'; return }
    if ($Yes) { Set-PlanContent $file ([string]::Join('', $lines.ToArray())) }
}

# A file that is written whole.
function Write-PlanFile([string] $Path, [object[]] $Lines) {
    $file = Get-PlanPath $Path
    $text = [string]::Join("`r`n", $Lines) + "`r`n"
    $there = (Test-Path -LiteralPath $file) -and ([IO.File]::ReadAllText($file, $Bytes) -ceq $text)
    if ($there) { Write-PlanLine '  is so already'; return }
    foreach ($line in $Lines) { Write-PlanLine ('  +' + $line) }
    if ($Yes) { Set-PlanContent $file $text }
}

function New-PlanDirectory([string] $Path) {
    $folder = Get-PlanPath $Path
    if (Test-Path -LiteralPath $folder) { Write-PlanLine ('  ' + $folder + ' is there already'); return }
    Write-PlanLine ('  make ' + $folder)
    if ($Yes) {
        $target = Get-PlanQuoted $folder
        Add-PlanUndo ('if (@(Get-ChildItem -Force -LiteralPath ' + $target + ').Count -eq 0) { Remove-Item -LiteralPath ' + $target + ' }')
        New-Item -ItemType Directory -Path $folder | Out-Null
    }
}

# A command, and the one that takes it back.  183 is said of what is there already, 3010 that Windows wants a restart.
function Invoke-PlanCommand([object[]] $Words, [object[]] $Back) {
    $real = @($Words | ForEach-Object { Get-PlanWord $_ })
    Write-PlanLine ('  ' + ($real -join ' '))
    if (-not $Yes) { return }
    if ($Back.Count -gt 0) {
        $takingBack = @($Back | ForEach-Object { Get-PlanQuoted (Get-PlanWord $_) })
        Add-PlanUndo ('& ' + ($takingBack -join ' '))
    } else {
        Start-PlanJournal
    }
    $program = $real[0]
    $options = @($real | Select-Object -Skip 1)
    & $program @options
    if (@(0, 183, 3010) -notcontains $LASTEXITCODE) { throw ($program + ' ended with ' + $LASTEXITCODE) }
    if (($LASTEXITCODE -eq 183) -and ($Back.Count -gt 0)) { Remove-PlanUndo }
    Add-PlanLeftFacts
    if ($LASTEXITCODE -eq 3010) { Write-PlanLine '  Windows has to be restarted for this' }
}

# A service, or a group of FastCGI programs, that takes up what is new.
function Restart-PlanService([string] $Verb, [string] $Name) {
    Write-PlanLine ('  ' + $Verb + ' ' + $Name)
    if (-not $Yes) { return }
    if ($Name -like 'application pool *') {
        $pool = $Name.Substring('application pool '.Length)
        Import-Module WebAdministration
        if ((Get-WebAppPoolState -Name $pool).Value -eq 'Started') { Restart-WebAppPool -Name $pool }
        else { Start-WebAppPool -Name $pool }
    } elseif ($Name -eq 'W3SVC') {
        & iisreset.exe
        if ($LASTEXITCODE -ne 0) { throw ('iisreset ended with ' + $LASTEXITCODE) }
    } else {
        Restart-Service -Name $Name
    }
}

function Invoke-PlanUndo {
    foreach ($folder in @(Get-PlanJournal)) {
        $file = Join-Path $folder.FullName 'undo.ps1'
        if (Test-Path -LiteralPath $file) {
            Write-PlanLine ('going back: ' + $file)
            & $file
            Move-Item -LiteralPath $file -Destination ($file + '.done')
            return
        }
    }
    Write-PlanLine 'there is nothing to take back'
}

function Write-PlanWayBack {
    if ($State.Journal -ne '') {
        $file = Join-Path $State.Journal 'undo.ps1'
        Write-PlanLine ('to go back: powershell -ExecutionPolicy Bypass -File "' + $file + '"')
    }
}

if ($Root -eq '') {
    Write-PlanLine 'nothing is changed: -Root has to name the directory on this machine that was looked at'
    exit 2
}
$principal = New-Object Security.Principal.WindowsPrincipal([Security.Principal.WindowsIdentity]::GetCurrent())
$elevated = $principal.IsInRole([Security.Principal.WindowsBuiltInRole]::Administrator)
if (($Yes -or $Undo) -and (-not $elevated)) {
    Write-PlanLine 'nothing is changed: this takes an administrator (run PowerShell as such)'
    exit 2
}
if ($Undo) {
    Invoke-PlanUndo
    exit 0
}
if (-not $Yes) { Write-PlanLine 'nothing is changed without -Yes; this would be done:' }
try {
    Assert-PlanFacts
    Invoke-Plan
} catch {
    Write-PlanLine ('stopped: ' + $_.Exception.Message)
    Write-PlanWayBack
    exit 1
}
if ($Yes) {
    Write-PlanLine 'done'
    Write-PlanLine 'not asked: whether PHP has it all now; record this machine, and check again'
    Write-PlanWayBack
}
exit 0
