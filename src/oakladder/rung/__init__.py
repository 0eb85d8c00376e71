"""Rung, the script language: text in, a `Program` or its problems out. Knows nothing of bars or windows."""

from oakladder.rung.other_scripts import OtherScripts
from oakladder.rung.problems import CODES, Problem, RunProblem, ScriptError, Severity, Span
from oakladder.rung.program import Analysis, Program, analyse, compile_script
from oakladder.rung.settings import SettingInfo

__all__ = [
    "CODES",
    "Analysis",
    "OtherScripts",
    "Problem",
    "Program",
    "RunProblem",
    "ScriptError",
    "SettingInfo",
    "Severity",
    "Span",
    "analyse",
    "compile_script",
]
