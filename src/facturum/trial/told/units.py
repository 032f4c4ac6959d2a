"""Fitted values in units of the raw response: transformations undone, plain and with the smearing correction."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from facturum.data.values import FloatArray
from facturum.errors import FacturumError
from facturum.language.core.literals import Name
from facturum.language.syntax.parser import parse
from facturum.language.tree.nodes import Node


@dataclass(frozen=True)
class RawUnits:
    """How a response is brought back into the units of its source.

    Args:
        how: log, sqrt, asinh, none (it is the source itself), or unknown.
        source: what it is made of, as text.
        shift: what a logarithm added first.
        is_source: whether the response is a variable of the table itself.
    """

    how: str
    source: str
    shift: float = 0.0
    is_source: bool = False

    @classmethod
    def of(cls, response: str) -> RawUnits:
        """Return those of a response, from its expression.

        Example:
            >>> RawUnits.of("log(stays)")
            RawUnits(how='log', source='stays', shift=0.0, is_source=False)
        """
        try:
            node: Node = parse(response, True)
        except FacturumError:
            return cls("none", response)
        if (raw := node.raw_scale()) is not None:
            return cls(raw.how, str(raw.of), raw.shift)
        if isinstance(node, Name):
            return cls("none", node.variable, is_source=True)
        return cls("none", response)

    @property
    def changes(self) -> bool:
        """Whether the response is transformed."""
        return self.how != "none"

    def undone(self, values: FloatArray) -> FloatArray:
        """Return responses in raw units."""
        with np.errstate(over="ignore"):
            if self.how == "log":
                return np.asarray(np.exp(values) - self.shift)
            if self.how == "sqrt":
                return np.asarray(np.square(np.maximum(values, 0.0)))
            return np.asarray(np.sinh(values)) if self.how == "asinh" else values

    def done(self, values: FloatArray) -> FloatArray:
        """Return raw values as the response holds them.

        Example:
            >>> RawUnits("log", "y").done(np.array([1.0])).tolist()
            [0.0]
        """
        with np.errstate(invalid="ignore", divide="ignore"):
            if self.how == "log":
                return np.asarray(np.log(values + self.shift))
            if self.how == "sqrt":
                return np.asarray(np.sqrt(values))
            return np.asarray(np.arcsinh(values)) if self.how == "asinh" else values

    def smeared(self, values: FloatArray, residuals: FloatArray) -> FloatArray:
        """Return expected responses in raw units: the mean over the residuals (Duan, "Smearing estimate", 1983).

        Example:
            >>> RawUnits("log", "y").smeared(np.array([0.0]), np.log(np.array([0.5, 1.5]))).tolist()
            [1.0]
        """
        with np.errstate(over="ignore", invalid="ignore"):
            if self.how == "log":
                return np.asarray(np.exp(values) * float(np.mean(np.exp(residuals))) - self.shift)
            if self.how == "sqrt":
                return np.asarray(np.square(values) + float(np.mean(np.square(residuals))))
            if self.how == "asinh":
                up, down = float(np.mean(np.exp(residuals))), float(np.mean(np.exp(-residuals)))
                return np.asarray((np.exp(values) * up - np.exp(-values) * down) / 2)
            return values
