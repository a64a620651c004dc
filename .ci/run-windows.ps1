# The gate on Windows, in its own shell: powershell -ExecutionPolicy Bypass -File .ci\run-windows.ps1
$ErrorActionPreference = "Stop"
Set-Location (Join-Path $PSScriptRoot "..")

function Step([string] $Program, [string[]] $Words) {
    & $Program @Words
    if ($LASTEXITCODE -ne 0) { throw "$Program $Words ended with $LASTEXITCODE" }
}

if (-not (Get-Command py -ErrorAction SilentlyContinue)) {
    Step "winget" @("install", "--silent", "--accept-package-agreements", "--accept-source-agreements", "Python.Python.3.12")
}
# Text files are read as UTF-8 by the tests, whatever the machine's own encoding is.
$env:PYTHONUTF8 = "1"
Step "py" @("-3", "-m", "venv", ".venv")
$Python = ".venv\Scripts\python.exe"
Step $Python @("-m", "pip", "install", "-q", "-e", ".[dev]")
Step $Python @("-m", "tests")
Step $Python @("-m", "ruff", "check", ".")
Step $Python @("-m", "ruff", "format", "--check", ".")
Step $Python @("-m", "mypy")
Step ".venv\Scripts\lint-imports.exe" @()
& ".venv\Scripts\usufruct.exe" demo | Out-Null
if ($LASTEXITCODE -ne 0) { throw "the demonstration ended with $LASTEXITCODE" }
Write-Output "all passed"
