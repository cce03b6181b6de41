#requires -Version 4.0
# Records what decides whether a PHP application runs on this Windows machine, for a survey elsewhere.
#
#     powershell -ExecutionPolicy Bypass -File recorder.ps1 [-Target FILE] [-Root C:]
#
# It reads and changes nothing but the file that it writes (COMPUTERNAME.recording.tar.gz).  It needs no more than
# Windows ships; an administrator, for the files that only an administrator may read.
# Passwords, tokens and environment variables are taken out here, before anything is written.
[CmdletBinding()]
param(
    [string] $Target = (Join-Path (Get-Location).Path ($env:COMPUTERNAME + '.recording.tar.gz')),
    [string] $Root = $env:SystemDrive
)
Set-StrictMode -Version 2.0
$ErrorActionPreference = 'Stop'

# What is taken along: a kind, where, and the names.  The kinds: name (that it is there), binary (a program, without its
# machine code), and texts by what may leave the machine of each.  The places: a path; <php>, a directory with a PHP;
# <server>, the directory of a web server's own programs, and <conf>, that of its configuration; <site>, a directory
# that is served, and what is below it to the third level.
$Steps = @'
binary	<php>	php*.exe php*.dll vcruntime*.dll
binary	<php>/ext	*.dll
ini	<php>	php*.ini php.ini-production php.ini-development
ini	/Windows	php*.ini
hosts	/Windows/System32/drivers/etc	hosts
name	/Windows/System32	kernel32.dll
name	/Windows/SysWOW64	kernel32.dll
binary	/Windows/System32	vcruntime140.dll
binary	/Windows/SysWOW64	vcruntime140.dll
ini	<site>	.user.ini
name	<site>	index.php
%STEPS%
'@
# Directories that are not looked into for PHP, and how deep others are.
$Skipped = @'
windows
$recycle.bin
system volume information
winsxs
users
node_modules
'@
$Depth = 5
# Of XML: the elements and the attributes that are kept.
$Elements = @'
%ELEMENTS%
'@
$Attributes = @'
%ATTRIBUTES%
'@
# Of a web server's lines: those that begin so.
$Lines = @'
%LINES%
'@
# Programs beside which such files are.
$Programs = @'
%PROGRAMS%
'@
# Directives of PHP: of lines that are commented out, these are kept.
$Directives = @'
%DIRECTIVES%
'@
# Directories that applications ask about.
$Asked = @'
%DIRECTORIES%
'@
$Secret = 'passw|passwd|_pw$|\.pw$|secret|token|credential|api_?key|license'
$SecretValue = '://[^/\s:@]*:[^@\s/]+@|(auth|password|passwd|passwort|pwd|secret|token|api_?key)\s*='
$Variables = @('PHPRC', 'PHP_INI_SCAN_DIR')
$Kept = @('PHPRC', 'PHP_INI_SCAN_DIR', 'PHP_FCGI_MAX_REQUESTS')
$Latin = [Text.Encoding]::GetEncoding(28591)
$Utf8 = New-Object Text.UTF8Encoding($false)
$MaxBytes = 200MB
$Found = @{
    Stats = New-Object System.Collections.Specialized.OrderedDictionary
    Contents = New-Object System.Collections.ArrayList
    Unreadable = New-Object System.Collections.ArrayList
    Access = New-Object System.Collections.ArrayList
    Bytes = 0
}

function Get-RecorderWords([string] $Text) {
    return @($Text -split '\s+' | Where-Object { $_ -ne '' })
}

function Get-RecorderPath([string] $Path) {
    return $Root.TrimEnd('\') + $Path.Replace('/', '\')
}

# A path on this machine as it stands in the recording: without the drive, with slashes; empty if it is elsewhere.
function Get-RecorderName([string] $Path) {
    $text = [Environment]::ExpandEnvironmentVariables($Path).Replace('/', '\')
    $base = $Root.TrimEnd('\')
    if (-not $text.StartsWith($base, [StringComparison]::OrdinalIgnoreCase)) { return '' }
    return $text.Substring($base.Length).Replace('\', '/').TrimEnd('/')
}

function Get-RecorderSeconds([DateTime] $Time) {
    $epoch = New-Object DateTime(1970, 1, 1, 0, 0, 0, [DateTimeKind]::Utc)
    return [Math]::Floor(($Time.ToUniversalTime() - $epoch).TotalSeconds)
}

# What is there: the way to it first.
function Add-RecorderStat([string] $Name) {
    if (($Name -eq '') -or $Found.Stats.Contains($Name)) { return }
    $above = $Name.Substring(0, $Name.LastIndexOf('/'))
    if ($above -ne '') { Add-RecorderStat $above }
    try { $item = Get-Item -Force -LiteralPath (Get-RecorderPath $Name) } catch { return }
    $time = Get-RecorderSeconds $item.LastWriteTime
    if ($item.PSIsContainer) { $line = '41ed 0 ' } else { $line = '81a4 ' + $item.Length + ' ' }
    $Found.Stats[$Name] = $line + $time + ' ' + $time + ' 0 0 ' + $Name
}

function Add-RecorderContent([string] $Name, [byte[]] $Data) {
    if ($Found.Bytes + $Data.Length -gt $MaxBytes) { return }
    $Found.Bytes += $Data.Length
    [void] $Found.Contents.Add(@($Name, $Data))
}

# A program without its machine code: what it is, and what is in it, stands elsewhere.
function Get-RecorderProgram([byte[]] $Data) {
    if (($Data.Length -lt 256) -or ($Data[0] -ne 0x4D) -or ($Data[1] -ne 0x5A)) { return , $Data }
    $head = [BitConverter]::ToInt32($Data, 0x3C)
    if (($head -lt 0) -or ($head + 24 -gt $Data.Length)) { return , $Data }
    $count = [BitConverter]::ToUInt16($Data, $head + 6)
    $table = $head + 24 + [BitConverter]::ToUInt16($Data, $head + 20)
    for ($i = 0; $i -lt $count; $i++) {
        $at = $table + 40 * $i
        if ($at + 40 -gt $Data.Length) { break }
        $flags = [BitConverter]::ToUInt32($Data, $at + 36)
        $size = [BitConverter]::ToUInt32($Data, $at + 16)
        $start = [BitConverter]::ToUInt32($Data, $at + 20)
        if ((($flags -band 0x20000000) -ne 0) -and ($start + $size -le $Data.Length)) {
            [Array]::Clear($Data, $start, $size)
        }
    }
    return , $Data
}

# One line of a php.ini, or nothing of it.
function Get-RecorderIni([string] $Line, [string[]] $Known) {
    if ($Line -match '^\s*\[') { return $Line }
    $commented = $Line -match '^\s*;'
    $plain = $Line -replace '^\s*;\s*', ''
    if ($plain -notmatch '^\s*([A-Za-z_][A-Za-z0-9_.\[\]]*)\s*=(.*)$') { return '' }
    $name = $Matches[1]
    $value = $Matches[2].Trim()
    if ($commented -and ($Known -notcontains $name)) { return '' }
    if (($name -match $Secret) -or ($value -match $SecretValue)) {
        if ($commented) { return '' }
        return $name + ' = (withheld)'
    }
    if ($name -eq 'sendmail_path') { return $name + ' = ' + ($value.Trim('"') -split '\s+')[0] }
    return $Line
}

function Get-RecorderServerLine([string] $Line) {
    $word = ($Line.Trim() -split '\s+')[0].ToLowerInvariant()
    if ((Get-RecorderWords $Lines) -notcontains $word) { return '' }
    if (($Line -match $Secret) -or ($Line -match $SecretValue)) { return '' }
    return $Line
}

function Get-RecorderHosts([string] $Line) {
    if ($Line -match '^\s*(127\.|::1)') { return ($Line -replace '#.*$', '') }
    return ''
}

function Get-RecorderText([string] $Kind, [byte[]] $Data) {
    $known = @()
    if ($Kind -eq 'ini') { $known = Get-RecorderWords $Directives }
    $out = New-Object Text.StringBuilder
    foreach ($line in [regex]::Split($Latin.GetString($Data), '(?<=\n)')) {
        $body = $line.TrimEnd("`r", "`n")
        $end = $line.Substring($body.Length)
        if ($Kind -eq 'ini') { $left = Get-RecorderIni $body $known }
        elseif ($Kind -eq 'hosts') { $left = Get-RecorderHosts $body }
        else { $left = Get-RecorderServerLine $body }
        [void] $out.Append($left).Append($end)
    }
    return , $Latin.GetBytes($out.ToString())
}

# XML with the elements and attributes that are kept, each on its own line of before.
function Get-RecorderXml([byte[]] $Data) {
    $elements = Get-RecorderWords $Elements
    $attributes = Get-RecorderWords $Attributes
    $settings = New-Object Xml.XmlReaderSettings
    $settings.DtdProcessing = [Xml.DtdProcessing]::Ignore
    $settings.XmlResolver = $null
    $reader = [Xml.XmlReader]::Create((New-Object IO.MemoryStream(, $Data)), $settings)
    $out = New-Object Text.StringBuilder
    $row = 1
    [void] $reader.Read()
    while (-not $reader.EOF) {
        $kind = $reader.NodeType
        if (($kind -ne [Xml.XmlNodeType]::Element) -and ($kind -ne [Xml.XmlNodeType]::EndElement)) {
            [void] $reader.Read()
            continue
        }
        $name = $reader.Name
        if ($kind -eq [Xml.XmlNodeType]::Element) {
            $keeps = $elements -ccontains $name
            if (($name -eq 'environmentVariable') -and ($Kept -notcontains $reader.GetAttribute('name'))) { $keeps = $false }
            if (-not $keeps) {
                $reader.Skip()
                continue
            }
        }
        $line = ([Xml.IXmlLineInfo] $reader).LineNumber
        while ($row -lt $line) { [void] $out.Append("`n"); $row += 1 }
        if ($kind -eq [Xml.XmlNodeType]::EndElement) {
            [void] $out.Append('</').Append($name).Append('>')
            [void] $reader.Read()
            continue
        }
        $empty = $reader.IsEmptyElement
        [void] $out.Append('<').Append($name)
        while ($reader.MoveToNextAttribute()) {
            if ($attributes -cnotcontains $reader.Name) { continue }
            $value = $reader.Value
            if (($reader.Name -eq 'arguments') -and ($value -match '(^|\s)-d')) { $value = '-d (withheld)' }
            if ($value -match $SecretValue) { $value = '(withheld)' }
            $value = [Security.SecurityElement]::Escape($value)
            [void] $out.Append(' ').Append($reader.Name).Append('="').Append($value).Append('"')
        }
        [void] $reader.MoveToElement()
        if ($empty) { [void] $out.Append('/>') } else { [void] $out.Append('>') }
        [void] $reader.Read()
    }
    [void] $out.Append("`n")
    return , $Utf8.GetBytes($out.ToString())
}

# One file: that it is there, and what may leave the machine of it.
function Add-RecorderFile([string] $Kind, [string] $Name) {
    if ($Found.Stats.Contains($Name)) { return }
    Add-RecorderStat $Name
    if ($Kind -eq 'name') { return }
    try {
        $data = [IO.File]::ReadAllBytes((Get-RecorderPath $Name))
        if ($Kind -eq 'binary') { $data = Get-RecorderProgram $data }
        elseif ($Kind -eq 'xml') { $data = Get-RecorderXml $data }
        else { $data = Get-RecorderText $Kind $data }
    } catch {
        [void] $Found.Unreadable.Add($Name)
        return
    }
    Add-RecorderContent $Name $data
}

function Test-RecorderProgram([string] $Folder) {
    $there = @((Get-RecorderWords $Programs) | Where-Object { Test-Path -LiteralPath (Get-RecorderPath ($Folder + '/' + $_)) })
    return $there.Count -gt 0
}

function Add-RecorderFolder([string] $Kind, [string] $Folder, [string] $Patterns) {
    $path = Get-RecorderPath $Folder
    if (-not (Test-Path -LiteralPath $path -PathType Container)) { return }
    $names = @(Get-ChildItem -Force -File -LiteralPath $path | ForEach-Object { $_.Name })
    foreach ($pattern in (Get-RecorderWords $Patterns)) {
        foreach ($name in @($names | Where-Object { $_ -like $pattern })) {
            Add-RecorderFile $Kind ($Folder.TrimEnd('/') + '/' + $name)
        }
    }
}

# The directories below one, down to a depth; those of some names are noted and not looked into.
function Get-RecorderFolders([string] $Folder, [int] $Levels, [string[]] $Except) {
    $todo = New-Object System.Collections.Queue
    $todo.Enqueue(@($Folder, 0))
    $all = New-Object System.Collections.ArrayList
    while (($todo.Count -gt 0) -and ($all.Count -lt 20000)) {
        $next = $todo.Dequeue()
        [void] $all.Add([string] $next[0])
        if ([string] $next[0] -ne '') { Add-RecorderStat ([string] $next[0]) }
        if ($next[1] -ge $Levels) { continue }
        try { $inside = @(Get-ChildItem -Force -Directory -LiteralPath (Get-RecorderPath ([string] $next[0] + '/'))) }
        catch { [void] $Found.Unreadable.Add([string] $next[0]); continue }
        foreach ($one in $inside) {
            if ($Except -contains $one.Name.ToLowerInvariant()) { Add-RecorderStat ([string] $next[0] + '/' + $one.Name) }
            elseif (($one.Attributes -band [IO.FileAttributes]::ReparsePoint) -eq 0) {
                $todo.Enqueue(@(([string] $next[0] + '/' + $one.Name), ($next[1] + 1)))
            }
        }
    }
    return $all.ToArray()
}

# The directories that are served, as the web servers' own files name them.
function Get-RecorderSites([string[]] $Configurations) {
    $all = New-Object System.Collections.ArrayList
    foreach ($step in @($Steps -split "`r?`n" | Where-Object { $_ -match '^xml\t/' })) {
        $kind, $place, $names = $step -split "`t"
        $main = Get-RecorderPath ($place + '/' + $names)
        if (-not (Test-Path -LiteralPath $main)) { continue }
        foreach ($match in [regex]::Matches([IO.File]::ReadAllText($main), 'physicalPath="([^"]+)"')) {
            [void] $all.Add((Get-RecorderName $match.Groups[1].Value))
        }
    }
    foreach ($folder in $Configurations) {
        foreach ($file in @(Get-ChildItem -File -LiteralPath (Get-RecorderPath $folder) -Filter '*.conf')) {
            $text = [IO.File]::ReadAllText($file.FullName, $Latin)
            $defined = @{}
            foreach ($match in [regex]::Matches($text, '(?im)^\s*define\s+(\w+)\s+"?([^"\r\n]+)"?')) {
                $defined[$match.Groups[1].Value] = $match.Groups[2].Value
            }
            foreach ($match in [regex]::Matches($text, '(?im)^\s*documentroot\s+"?([^"\r\n]+)"?')) {
                $path = $match.Groups[1].Value
                foreach ($name in $defined.Keys) { $path = $path.Replace('${' + $name + '}', $defined[$name]) }
                [void] $all.Add((Get-RecorderName $path.Trim()))
            }
        }
    }
    return @($all.ToArray() | Where-Object { ($_ -ne '') -and (Test-Path -LiteralPath (Get-RecorderPath $_)) } | Select-Object -Unique)
}

# Who may do what in a directory: name, identifier, and 4 to read, 2 to write, 1 to run.
function Add-RecorderAccess([string] $Name) {
    $path = Get-RecorderPath $Name
    if (-not (Test-Path -LiteralPath $path)) { return }
    Add-RecorderStat $Name
    foreach ($rule in (Get-Acl -LiteralPath $path).Access) {
        if (($rule.PropagationFlags -band [Security.AccessControl.PropagationFlags]::InheritOnly) -ne 0) { continue }
        $who = $rule.IdentityReference
        try { $sid = $who.Translate([Security.Principal.SecurityIdentifier]).Value } catch { $sid = '' }
        $rights = [int] $rule.FileSystemRights
        $bits = 0
        if (($rights -band 0x1) -ne 0) { $bits += 4 }
        if (($rights -band 0x6) -eq 0x6) { $bits += 2 }
        if (($rights -band 0x20) -ne 0) { $bits += 1 }
        $type = 'allow'
        if ($rule.AccessControlType -eq [Security.AccessControl.AccessControlType]::Deny) { $type = 'deny' }
        [void] $Found.Access.Add($type + "`t" + $bits + "`t" + $sid + "`t" + $who.Value + "`t" + $Name)
    }
}

# What the registry says of PHP, as an exported file would have it.
function Add-RecorderRegistry {
    $out = New-Object Text.StringBuilder
    $keys = @('HKLM:\SOFTWARE\PHP', 'HKLM:\SOFTWARE\WOW6432Node\PHP')
    foreach ($key in $keys) {
        if (-not (Test-Path -LiteralPath $key)) { continue }
        $below = @(Get-Item -LiteralPath $key) + @(Get-ChildItem -Recurse -LiteralPath $key)
        foreach ($one in $below) {
            [void] $out.Append('[' + $one.Name + "]`r`n")
            foreach ($name in $one.GetValueNames()) {
                if (($name -match $Secret) -or ($name -eq '')) { continue }
                $value = [string] $one.GetValue($name)
                $escaped = $value.Replace('\', '\\').Replace('"', '\"')
                [void] $out.Append('"' + $name + '"="' + $escaped + '"' + "`r`n")
            }
        }
    }
    $key = 'HKLM:\SYSTEM\CurrentControlSet\Control\Session Manager\Environment'
    [void] $out.Append("[HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Control\Session Manager\Environment]`r`n")
    foreach ($name in $Variables) {
        $value = [Environment]::GetEnvironmentVariable($name, 'Machine')
        if ($value) { [void] $out.Append('"' + $name + '"="' + $value.Replace('\', '\\') + '"' + "`r`n") }
    }
    $data = $Utf8.GetBytes("Windows Registry Editor Version 5.00`r`n" + $out.ToString())
    $now = Get-RecorderSeconds (Get-Date)
    $Found.Stats['/registry.reg'] = '81a4 ' + $data.Length + ' ' + $now + ' ' + $now + ' 0 0 /registry.reg'
    Add-RecorderContent '/registry.reg' $data
}

# An archive as tar(5) has it: for each member a block of 512 bytes, and its content filled up to such blocks.
function Write-RecorderMember([IO.Stream] $Stream, [string] $Name, [byte[]] $Data) {
    $head = New-Object byte[] 512
    $fields = @(@(0, $Name), @(100, '0000644'), @(108, '0000000'), @(116, '0000000'),
        @(124, [Convert]::ToString($Data.Length, 8).PadLeft(11, '0')), @(136, '00000000000'),
        @(148, '        '), @(156, '0'), @(257, "ustar`000"))
    foreach ($field in $fields) {
        $text = $Latin.GetBytes([string] $field[1])
        [Array]::Copy($text, 0, $head, $field[0], $text.Length)
    }
    $sum = 0
    foreach ($number in $head) { $sum += $number }
    $text = $Latin.GetBytes([Convert]::ToString($sum, 8).PadLeft(6, '0') + "`0 ")
    [Array]::Copy($text, 0, $head, 148, $text.Length)
    $Stream.Write($head, 0, 512)
    $Stream.Write($Data, 0, $Data.Length)
    $rest = (512 - $Data.Length % 512) % 512
    if ($rest -gt 0) { $Stream.Write((New-Object byte[] $rest), 0, $rest) }
}

function Write-RecorderArchive {
    $written = $Target + '.part'
    $file = [IO.File]::Create($written)
    $pack = New-Object IO.Compression.GZipStream($file, [IO.Compression.CompressionMode]::Compress)
    $admin = (New-Object Security.Principal.WindowsPrincipal([Security.Principal.WindowsIdentity]::GetCurrent())).IsInRole([Security.Principal.WindowsBuiltInRole]::Administrator)
    if ($admin) { $user = '0' } else { $user = '1000' }
    $contents = @()
    for ($i = 0; $i -lt $Found.Contents.Count; $i++) {
        $contents += ([string] ($i + 1)) + "`t" + $Found.Contents[$i][1].Length + "`t" + $Found.Contents[$i][0]
    }
    $members = @(@('format', @('1')), @('system', @('windows')), @('hostname', @($env:COMPUTERNAME)),
        @('visit', @([string] (Get-RecorderSeconds (Get-Date)) + ' ' + $user)), @('stats', @($Found.Stats.Values)),
        @('contents', $contents), @('unreadable', @($Found.Unreadable.ToArray())), @('access', @($Found.Access.ToArray())))
    foreach ($member in $members) {
        $text = ''
        if (@($member[1]).Count -gt 0) { $text = [string]::Join("`n", @($member[1])) + "`n" }
        Write-RecorderMember $pack $member[0] ($Utf8.GetBytes($text))
    }
    for ($i = 0; $i -lt $Found.Contents.Count; $i++) {
        Write-RecorderMember $pack ('content/' + ($i + 1)) $Found.Contents[$i][1]
    }
    $pack.Write((New-Object byte[] 1024), 0, 1024)
    $pack.Close()
    $file.Close()
    Move-Item -Force -LiteralPath $written -Destination $Target
}

$folders = @(Get-RecorderFolders '' $Depth @($Skipped -split "`r?`n"))
$php = @($folders | Where-Object { @(Get-ChildItem -File -LiteralPath (Get-RecorderPath ($_ + '/')) -Filter 'php*.dll' -ErrorAction SilentlyContinue | Where-Object { $_.Name -match '^php\d(ts)?\.dll$' }).Count -gt 0 })
$servers = @($folders | Where-Object { ($_ -match '/bin$') -and (Test-RecorderProgram $_) })
$roots = @($servers | ForEach-Object { $_.Substring(0, $_.Length - 4) + '/conf' } | Where-Object { Test-Path -LiteralPath (Get-RecorderPath $_) })
$configurations = @($roots | ForEach-Object { Get-RecorderFolders $_ 3 @() })
$served = @(Get-RecorderSites $configurations)
$sites = @($served | ForEach-Object { Get-RecorderFolders $_ 3 @('vendor', 'node_modules') } | Select-Object -Unique)
$places = @{ '<php>' = $php; '<server>' = $servers; '<conf>' = $configurations; '<site>' = $sites }
foreach ($step in ($Steps -split "`r?`n")) {
    $kind, $place, $patterns = $step -split "`t"
    $first = ($place -split '/')[0]
    if ($places.ContainsKey($first)) {
        foreach ($folder in $places[$first]) { Add-RecorderFolder $kind ($folder + $place.Substring($first.Length)) $patterns }
    } else {
        Add-RecorderFolder $kind $place $patterns
    }
}
foreach ($wanted in (Get-RecorderWords $Asked)) {
    if ($wanted.StartsWith('/')) { Add-RecorderAccess $wanted; continue }
    foreach ($folder in $served) {
        Add-RecorderAccess ($folder + '/' + $wanted)
        Add-RecorderAccess ($folder.Substring(0, $folder.LastIndexOf('/')) + '/' + $wanted)
    }
}
Add-RecorderRegistry
Write-RecorderArchive
Write-Output ('recorded: ' + $Target)
