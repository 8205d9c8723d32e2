"""The languages within a suite: runtime expressions, conditions, formulas, selectors."""
