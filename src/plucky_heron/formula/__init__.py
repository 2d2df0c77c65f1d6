"""The formula language: small expressions over named signals, checked for names and units, run over whole batches."""

from plucky_heron.formula.functions import FUNCTIONS
from plucky_heron.formula.parsing import Expression, parse_formula
from plucky_heron.formula.program import Program, evaluate_once

__all__ = ["FUNCTIONS", "Expression", "Program", "evaluate_once", "parse_formula"]
