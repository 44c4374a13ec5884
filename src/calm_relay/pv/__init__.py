"""From irradiance to DC: modules, strings, trackers, PV-only inverters."""
