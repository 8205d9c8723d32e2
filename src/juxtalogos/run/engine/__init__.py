"""Plans, cases and steps: how a run goes."""
