"""Conductors: tables with their sources, and the sums of amps, volts and protective devices."""
