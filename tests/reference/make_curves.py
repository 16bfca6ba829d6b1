"""Make the reference curves anew with PyBaMM (an optional extra): `python tests/reference/make_curves.py`.

An independent source of physically sound curves: a lithium iron phosphate cell (parameter set Prada2013, single
particle model) and a lead-acid battery (Sulzer2019, leading-order quasi-static model). They hold no claim of
agreeing with any battery sold. The charge is PyBaMM's own (its solver's integral, or a constant current times time):
that is what the tests compare with.
"""

from __future__ import annotations

import csv
from pathlib import Path

import numpy as np
import pybamm

HERE = Path(__file__).parent


def write(name: str, time_s: np.ndarray, voltage: np.ndarray, current: np.ndarray, charge: np.ndarray) -> None:
    """One curve: s, V, A, and the solver's own discharge capacity in Ah."""
    with (HERE / name).open("w", newline="") as file:
        rows = csv.writer(file)
        rows.writerow(["Time / s", "Voltage / V", "Current / A", "PyBaMM charge / Ah"])
        for row in zip(time_s, voltage, current, charge, strict=True):
            rows.writerow([f"{row[0]:.3f}", f"{row[1]:.6f}", f"{row[2]:.6f}", f"{row[3]:.8f}"])


def lithium() -> None:
    """Rest, 0.2 C and 1 C discharges of the LFP cell to 2.5 V, rest after."""
    values = pybamm.ParameterValues("Prada2013")
    capacity = values["Nominal cell capacity [A.h]"]
    for rate in (0.2, 1.0):
        experiment = pybamm.Experiment(
            ["Rest for 10 minutes", f"Discharge at {rate}C until 2.5 V", "Rest for 10 minutes"],
            period=f"{max(5, int(20 / rate))} seconds",
        )
        simulation = pybamm.Simulation(pybamm.lithium_ion.SPM(), parameter_values=values, experiment=experiment)
        solution = simulation.solve(initial_soc=1.0)
        write(
            f"lfp_{str(rate).replace('.', '_')}C.csv",
            solution["Time [s]"].entries,
            solution["Terminal voltage [V]"].entries,
            solution["Current [A]"].entries,
            solution["Discharge capacity [A.h]"].entries,
        )
    print("LFP", capacity, "Ah nominal")


def lead_acid() -> None:
    """C/20 and C/2 discharges of the lead-acid battery to 10.5 V."""
    for rate in (0.05, 0.5):
        model = pybamm.lead_acid.LOQS()
        values = model.default_parameter_values
        capacity = values["Nominal cell capacity [A.h]"]
        values["Current function [A]"] = rate * capacity
        values["Lower voltage cut-off [V]"] = 1.75
        simulation = pybamm.Simulation(model, parameter_values=values)
        end = 3600.0 / rate * 2.5
        solution = simulation.solve(np.linspace(0, end, 1200))
        # the solver steps unevenly: sampled evenly, as a logger would, with its last instant kept
        stop = float(solution["Time [s]"].entries[-1])
        time_s = np.append(np.arange(0.0, stop, stop / 400.0), stop)
        write(
            f"lead_{str(rate).replace('.', '_')}C.csv",
            time_s,
            solution["Battery voltage [V]"](time_s),
            np.full(len(time_s), rate * capacity),
            # the current is constant by construction, so its integral is exact
            rate * capacity * time_s / 3600.0,
        )
    print("lead-acid", capacity, "Ah nominal")


if __name__ == "__main__":
    lithium()
    lead_acid()
