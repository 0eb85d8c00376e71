"""Rung, the script language: text in, a `Program` or its problems out. Knows nothing of bars or windows."""

from .problems import CODES, Problem, RunProblem, ScriptError, Severity, Span
from .program import Program, SettingInfo, compile_script, problems_of

__all__ = ["CODES", "Problem", "Program", "RunProblem", "ScriptError", "SettingInfo", "Severity", "Span",
           "compile_script", "problems_of"]
