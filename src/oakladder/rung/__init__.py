"""Rung, the script language: text in, a `Program` or its problems out. Knows nothing of bars or windows."""

from .problems import CODES, Problem, RunProblem, ScriptError, Severity, Span
from .program import Analysis, Program, SettingInfo, analyse, compile_script

__all__ = [
    "CODES",
    "Analysis",
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
