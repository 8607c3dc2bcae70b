"""A real PowerShell for tests: what our scripts are made of, and what they do over a simulated machine."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from pathlib import Path
from typing import Any

import pytest

PWSH = shutil.which("pwsh")
REQUIRED = os.environ.get("FIXED_ANCHOR_POWERSHELL") == "required"
if PWSH is None and REQUIRED:
    raise pytest.UsageError("FIXED_ANCHOR_POWERSHELL=required, but there is no pwsh on PATH")

needs_powershell = pytest.mark.skipif(PWSH is None, reason="there is no PowerShell (pwsh) on PATH")

COMMANDS = Path(__file__).parent.parent / "src/fixed_anchor/standins/windows/commands.psm1"

#: Prints what a script is made of, by PowerShell's own parser.
TREE = r"""
$tokens = $null; $errors = $null
$tree = [System.Management.Automation.Language.Parser]::ParseFile($args[0], [ref] $tokens, [ref] $errors)
$every = $tree.FindAll({ $true }, $true)
$commands = @($every | Where-Object { $_ -is [System.Management.Automation.Language.CommandAst] } | ForEach-Object {
    $name = $_.GetCommandName()
    if ($null -eq $name) { $name = "by $($_.InvocationOperator) $($_.CommandElements[0].GetType().Name)" }
    $names = @($_.CommandElements | Where-Object { $_ -is [System.Management.Automation.Language.CommandParameterAst] })
    @{ name = $name; parameters = @($names | ForEach-Object { $_.ParameterName }) }
})
$invoked = @($every | Where-Object { $_ -is [System.Management.Automation.Language.InvokeMemberExpressionAst] })
$members = @($invoked | ForEach-Object {
    $on = if ($_.Static) { "[$($_.Expression.TypeName.FullName)]::" } else { '' }
    "$on$($_.Member)"
})
$types = @($every | Where-Object { $_ -is [System.Management.Automation.Language.TypeExpressionAst] -or
    $_ -is [System.Management.Automation.Language.TypeConstraintAst] } | ForEach-Object { $_.TypeName.FullName })
$variables = @($every | Where-Object { $_ -is [System.Management.Automation.Language.VariableExpressionAst] } |
    ForEach-Object { "$($_.VariablePath)" })
@{
    errors = @($errors | ForEach-Object { "$($_.Extent.StartLineNumber): $($_.Message)" })
    kinds = @($every | ForEach-Object { $_.GetType().Name } | Sort-Object -Unique)
    tokens = @($tokens | ForEach-Object { "$($_.Kind)" } | Sort-Object -Unique)
    commands = $commands; members = $members; types = $types; variables = @($variables | Sort-Object -Unique)
} | ConvertTo-Json -Depth 5 -Compress
"""

#: Runs a script over a machine; the language mode is set last, when all is loaded.
RUN = r"""
Import-Module $args[0] -DisableNameChecking
if ($args[2]) { $ExecutionContext.SessionState.LanguageMode = $args[2] }
& $args[1]
"""


def powershell(script: str, folder: Path, *words: str, **environment: str) -> subprocess.CompletedProcess[bytes]:
    """Runs a script of the test's own with arguments."""
    assert PWSH is not None
    file = folder / "script.ps1"
    file.write_text(script, "utf-8-sig")
    argv = [PWSH, "-NoLogo", "-NoProfile", "-NonInteractive", "-File", str(file), *words]
    return subprocess.run(argv, capture_output=True, check=False, timeout=120, env={**os.environ, **environment})


def tree_of(script: Path, folder: Path) -> dict[str, Any]:
    """What a script is made of."""
    done = powershell(TREE, folder, str(script))
    assert done.returncode == 0, done.stderr
    told: dict[str, Any] = json.loads(done.stdout)
    return told


def run_over(state: dict[str, Any], script: Path, folder: Path, mode: str = "") -> bytes:
    """What a script prints on the machine of ``state``."""
    machine = folder / "machine.json"
    machine.write_text(json.dumps(state))
    done = powershell(RUN, folder, str(COMMANDS), str(script), mode, FIXED_ANCHOR_WINDOWS=str(machine))
    assert done.returncode == 0, done.stderr.decode("utf-8", "replace")
    return done.stdout


#: Runs a script over each machine of a folder, in one process: what it prints lies beside the machine.
RUN_ALL = r"""
foreach ($machine in [IO.Directory]::GetFiles($args[2], '*.json')) {
    $env:FIXED_ANCHOR_WINDOWS = $machine
    Import-Module $args[0] -DisableNameChecking -Force
    [IO.File]::WriteAllText("$machine.out", (@(& $args[1]) -join "`n") + "`n")
}
"""


def run_over_all(states: list[dict[str, Any]], script: Path, folder: Path) -> list[bytes]:
    """What a script that does not end its process prints on each machine of ``states``."""
    files = [folder / f"{number:03d}.json" for number in range(len(states))]
    for file, state in zip(files, states, strict=True):
        file.write_text(json.dumps(state))
    done = powershell(RUN_ALL, folder, str(COMMANDS), str(script), str(folder))
    assert done.returncode == 0, done.stderr.decode("utf-8", "replace")
    return [file.with_name(f"{file.name}.out").read_bytes() for file in files]
