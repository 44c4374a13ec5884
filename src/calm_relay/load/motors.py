"""Motor starts (definitions D15; NEC tables from memory)."""

from __future__ import annotations

from dataclasses import dataclass

from calm_relay.job.house_models import Appliance, Motor

# NEC table 430.7(B), from memory: top of each code letter's range, kVA per hp; V has no top, its bottom is used.
CODE_LETTER_KVA_PER_HP = {
    "A": 3.15, "B": 3.55, "C": 4.0, "D": 4.5, "E": 5.0, "F": 5.6, "G": 6.3, "H": 7.1, "J": 8.0, "K": 9.0, "L": 10.0,
    "M": 11.2, "N": 12.5, "P": 14.0, "R": 16.0, "S": 18.0, "T": 20.0, "U": 22.4, "V": 22.4,
}  # fmt: skip
CODE_LETTER_TOP_KVA_PER_HP = {
    letter: round(bound - 0.01, 2) if letter != "V" else bound for letter, bound in CODE_LETTER_KVA_PER_HP.items()
}
# NEC table 430.248, from memory: single-phase full-load amps at 230 V.
FULL_LOAD_A_230V = {0.5: 4.9, 1.0: 8.0, 1.5: 10.0, 2.0: 12.0, 3.0: 17.0, 5.0: 28.0}


@dataclass(frozen=True)
class MotorStart:
    """A motor's start in VA, where it comes from, and whether it was assumed."""

    start_va: float
    how: str
    assumed: bool = False
    lra_a: float | None = None


def motor_start(appliance: Appliance, lra_per_running_amp: float, soft_start_frac: float) -> MotorStart | None:
    """Return the locked-rotor apparent power of an appliance's motor; None when it has none.

    The nameplate's LRA beats the code letter (top of its range × hp); else full-load amps (of the table where the horsepower
    is known, else as it runs) × a factor, assumed.
    A soft starter counts for compressors, and elsewhere only where the motor's maker lists it.
    """
    motor = appliance.motor
    if motor is None:
        return None
    root = 3.0**0.5 if motor.phases == 3 else 1.0
    if motor.lra_a is not None:
        start = MotorStart(motor.voltage_v * motor.lra_a * root, f"{motor.lra_a:g} LRA × {motor.voltage_v:g} V", lra_a=motor.lra_a)
    elif motor.code_letter is not None and motor.horsepower is not None:
        per_hp = CODE_LETTER_TOP_KVA_PER_HP[motor.code_letter]
        how = f"code letter {motor.code_letter}, {per_hp:g} kVA/hp × {motor.horsepower:g} hp"
        start = MotorStart(1000.0 * per_hp * motor.horsepower, how)
    else:
        running = appliance.running_w / appliance.power_factor
        table_a = FULL_LOAD_A_230V.get(motor.horsepower or 0.0) if motor.phases == 1 and 220 <= motor.voltage_v <= 240 else None
        if table_a is not None:
            running = table_a * 230.0
        how = f"{lra_per_running_amp:g} × running {running / 1000:.2f} kVA, assumed"
        start = MotorStart(running * lra_per_running_amp, how, assumed=True)
    if motor.soft_starter and soft_start_counts(motor):
        share = soft_start_share(motor, soft_start_frac)
        lra = None if start.lra_a is None else start.lra_a * share
        start = MotorStart(start.start_va * share, f"{start.how} × {share:g} soft start", start.assumed, lra)
    return start


def soft_start_share(motor: Motor, usual_frac: float) -> float:
    """Return the share of the start that a soft starter leaves: as typed for this motor, else the usual one. [0 to 1]"""
    return usual_frac if motor.soft_start_frac is None else motor.soft_start_frac


def soft_start_counts(motor: Motor) -> bool:
    """Return whether a soft starter may be counted on for this motor."""
    return motor.kind == "compressor" or motor.soft_starter_listed
