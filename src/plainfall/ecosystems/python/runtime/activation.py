"""The activation scripts that people expect in an environment's ``bin``: sh, fish, csh and PowerShell.

Each sets VIRTUAL_ENV and VIRTUAL_ENV_PROMPT, puts ``bin`` first on the path, takes PYTHONHOME away, shows
the prompt, and defines ``deactivate``, which puts everything back.
"""

from __future__ import annotations

import shlex
from pathlib import Path

__all__ = ["activation_scripts"]

_SH = """\
# Use it with: . bin/activate   (sh, bash, zsh, dash)

deactivate () {{
    for _pf_name in PATH PYTHONHOME PS1; do
        eval "_pf_was_set=\\${{_PF_HAD_$_pf_name:-}} _pf_value=\\${{_PF_OLD_$_pf_name:-}}"
        if [ "$_pf_was_set" = yes ]; then
            eval "$_pf_name=\\$_pf_value"
        fi
        unset "_PF_HAD_$_pf_name" "_PF_OLD_$_pf_name"
    done
    unset _pf_name _pf_was_set _pf_value VIRTUAL_ENV VIRTUAL_ENV_PROMPT
    hash -r 2>/dev/null || true
    [ "${{1:-}}" = nondestructive ] || unset -f deactivate
}}

deactivate nondestructive
VIRTUAL_ENV={folder}
VIRTUAL_ENV_PROMPT={prompt}
export VIRTUAL_ENV VIRTUAL_ENV_PROMPT
_PF_HAD_PATH=yes
_PF_OLD_PATH=$PATH
PATH="$VIRTUAL_ENV/bin:$PATH"
export PATH
if [ -n "${{PYTHONHOME+set}}" ]; then
    _PF_HAD_PYTHONHOME=yes
    _PF_OLD_PYTHONHOME=$PYTHONHOME
    unset PYTHONHOME
fi
if [ -z "${{VIRTUAL_ENV_DISABLE_PROMPT:-}}" ]; then
    _PF_HAD_PS1=yes
    _PF_OLD_PS1=${{PS1:-}}
    PS1="($VIRTUAL_ENV_PROMPT) ${{PS1:-}}"
fi
hash -r 2>/dev/null || true
"""

_FISH = """\
# Use it with: source bin/activate.fish

function deactivate
    if set -q _pf_old_path
        set -gx PATH $_pf_old_path
        set -e _pf_old_path
    end
    if set -q _pf_old_pythonhome
        set -gx PYTHONHOME $_pf_old_pythonhome
        set -e _pf_old_pythonhome
    end
    if functions -q _pf_old_prompt
        functions -e fish_prompt
        functions -c _pf_old_prompt fish_prompt
        functions -e _pf_old_prompt
    end
    set -e VIRTUAL_ENV
    set -e VIRTUAL_ENV_PROMPT
    test "$argv[1]" = nondestructive; or functions -e deactivate
end

deactivate nondestructive
set -gx VIRTUAL_ENV {folder}
set -gx VIRTUAL_ENV_PROMPT {prompt}
set -g _pf_old_path $PATH
set -gx PATH "$VIRTUAL_ENV/bin" $PATH
if set -q PYTHONHOME
    set -g _pf_old_pythonhome $PYTHONHOME
    set -e PYTHONHOME
end
if not set -q VIRTUAL_ENV_DISABLE_PROMPT; and functions -q fish_prompt
    functions -c fish_prompt _pf_old_prompt
    function fish_prompt
        echo -n "($VIRTUAL_ENV_PROMPT) "
        _pf_old_prompt
    end
end
"""

_CSH = """\
# Use it with: source bin/activate.csh

alias deactivate 'test $?_PF_OLD_PATH != 0 && setenv PATH "$_PF_OLD_PATH" && unset _PF_OLD_PATH; rehash; \
test $?_PF_OLD_PROMPT != 0 && set prompt="$_PF_OLD_PROMPT" && unset _PF_OLD_PROMPT; \
unsetenv VIRTUAL_ENV; unsetenv VIRTUAL_ENV_PROMPT; test "\\!:*" != nondestructive && unalias deactivate'

deactivate nondestructive
setenv VIRTUAL_ENV {folder}
setenv VIRTUAL_ENV_PROMPT {prompt}
set _PF_OLD_PATH="$PATH"
setenv PATH "${{VIRTUAL_ENV}}/bin:${{PATH}}"
if ( ! $?VIRTUAL_ENV_DISABLE_PROMPT && $?prompt ) then
    set _PF_OLD_PROMPT="$prompt"
    set prompt="(${{VIRTUAL_ENV_PROMPT}}) $prompt"
endif
rehash
"""

_POWERSHELL = """\
# Use it with: bin/Activate.ps1

function global:deactivate ([switch]$NonDestructive) {{
    if (Test-Path variable:global:_PF_OLD_PATH) {{
        $env:PATH = $global:_PF_OLD_PATH
        Remove-Variable _PF_OLD_PATH -Scope Global
    }}
    if (Test-Path variable:global:_PF_OLD_PYTHONHOME) {{
        $env:PYTHONHOME = $global:_PF_OLD_PYTHONHOME
        Remove-Variable _PF_OLD_PYTHONHOME -Scope Global
    }}
    if (Test-Path function:global:_PF_OLD_PROMPT) {{
        Copy-Item function:global:_PF_OLD_PROMPT function:global:prompt
        Remove-Item function:global:_PF_OLD_PROMPT
    }}
    Remove-Item env:VIRTUAL_ENV, env:VIRTUAL_ENV_PROMPT -ErrorAction SilentlyContinue
    if (-not $NonDestructive) {{ Remove-Item function:deactivate }}
}}

deactivate -NonDestructive
$env:VIRTUAL_ENV = {folder}
$env:VIRTUAL_ENV_PROMPT = {prompt}
$global:_PF_OLD_PATH = $env:PATH
$env:PATH = "$env:VIRTUAL_ENV/bin" + [IO.Path]::PathSeparator + $env:PATH
if (Test-Path env:PYTHONHOME) {{
    $global:_PF_OLD_PYTHONHOME = $env:PYTHONHOME
    Remove-Item env:PYTHONHOME
}}
if (-not $env:VIRTUAL_ENV_DISABLE_PROMPT) {{
    Copy-Item function:prompt function:global:_PF_OLD_PROMPT
    function global:prompt {{ "($env:VIRTUAL_ENV_PROMPT) " + (_PF_OLD_PROMPT) }}
}}
"""


def activation_scripts(folder: Path, prompt: str) -> dict[str, str]:
    """File names to contents, for an environment that will stand at ``folder``."""
    doubled = {"folder": _single_quoted(str(folder), "''"), "prompt": _single_quoted(prompt, "''")}
    backslashed = {
        "folder": _single_quoted(str(folder).replace("\\", "\\\\"), "\\'"),
        "prompt": _single_quoted(prompt.replace("\\", "\\\\"), "\\'"),
    }
    plain = {"folder": shlex.quote(str(folder)), "prompt": shlex.quote(prompt)}
    return {
        "activate": _SH.format(**plain),
        "activate.fish": _FISH.format(**backslashed),
        "activate.csh": _CSH.format(**plain),
        "Activate.ps1": _POWERSHELL.format(**doubled),
    }


def _single_quoted(text: str, quote: str) -> str:
    return "'" + text.replace("'", quote) + "'"
