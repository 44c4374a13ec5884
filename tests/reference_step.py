"""A slow, plain reference of one simulation step, written from the product's definitions D3–D10 and nothing else.

No array, no closed form for the inverter (bisection instead), no shared code with the product.
"""

from __future__ import annotations

from dataclasses import dataclass, field

INF = float("inf")
TINY = 1e-6


@dataclass
class Terms:
    p_self: float
    a: float
    b: float
    rated: float

    def source(self, given: float) -> float:
        """What must go in for `given` to come out (D4)."""
        return 0.0 if given <= 0 else given + self.p_self + self.a * given + self.b * given**2 / self.rated

    def given(self, source: float) -> float:
        """What comes out of `source`, by bisection."""
        if source <= self.p_self:
            return 0.0
        low, high = 0.0, source
        for _ in range(200):
            middle = 0.5 * (low + high)
            low, high = (middle, high) if self.source(middle) < source else (low, middle)
        return 0.5 * (low + high)


@dataclass
class Unit:
    """One DC node with its battery; energies in Wh, powers in W."""

    side: str
    out: Terms
    charger: Terms
    ac_out: float
    ac_in: float
    night: float
    capacity: float
    soc_min: float
    soc_max: float
    reserve: float
    charge: float
    discharge: float
    eta_c: float
    eta_d: float
    taper_soc: float = 1.0
    taper_end: float = 1.0
    aux: float = 0.0
    grid_port: float = INF
    backup_port: float = INF
    pv_to_battery: float = INF
    energy: float = 0.0
    energy_pv: float = 0.0


@dataclass
class Slot:
    kind: str = "own_use"
    power: float = 0.0
    target: float = 0.0
    floor: float = 0.0


@dataclass
class Around:
    load_b: float
    load_g: float
    never: float
    pv_b: float = 0.0
    pv_g: float = 0.0
    pv_b_fixed: float = 0.0
    pv_g_fixed: float = 0.0
    own_b: float = 0.0
    own_g: float = 0.0
    cap: float = INF
    import_limit: float = INF
    device: float = INF
    bias: float = 0.0
    proportion: bool = False
    hours: float = 1.0


@dataclass
class State:
    """What a unit does in this step."""

    pv: float
    ac_out: float = 0.0
    ac_in: float = 0.0
    pv_used: float = 0.0  # into the inverter
    pv_stored: float = 0.0
    ac_stored: float = 0.0  # DC
    drawn: float = 0.0  # DC from the battery into the inverter
    device_lost: float = 0.0
    names: dict[str, float] = field(default_factory=dict)

    @property
    def pv_left(self) -> float:
        return self.pv - self.pv_used - self.pv_stored


class Step:
    def __init__(self, units: list[Unit], slots: list[Slot], pv: list[float], around: Around) -> None:
        self.units, self.slots, self.pv, self.a = units, slots, pv, around
        self.started = [False] * len(units)
        self.usual = [False] * len(units)
        self.stays_off = [False] * len(units)

    # -- what holds for the whole step
    def floor(self, k: int) -> float:
        u, s = self.units[k], self.slots[k]
        levels = [u.soc_min, u.reserve, s.floor]
        if s.kind in ("charge_from_grid", "surplus_only"):
            levels.append(s.target)
        return max(levels) * u.capacity

    def hold(self, k: int) -> bool:
        return self.slots[k].kind == "hold"

    def aux_from_battery(self, k: int) -> float:
        u = self.units[k]
        if u.capacity == 0 or self.hold(k):
            return 0.0
        return min(u.aux, max(0.0, (u.energy - self.floor(k)) * u.eta_d / self.a.hours))

    def energy_after_aux(self, k: int) -> float:
        return self.units[k].energy - self.aux_from_battery(k) * self.a.hours / self.units[k].eta_d

    def may_take(self, k: int) -> float:
        u = self.units[k]
        if u.capacity == 0 or self.hold(k):
            return 0.0
        soc, limit = u.energy / u.capacity, u.charge
        if u.taper_soc < u.soc_max and soc > u.taper_soc:
            along = min(1.0, (soc - u.taper_soc) / (u.soc_max - u.taper_soc))
            limit = u.charge + along * (u.taper_end * u.charge - u.charge)
        room = u.soc_max * u.capacity - self.energy_after_aux(k)
        return min(limit, max(0.0, room / (u.eta_c * self.a.hours)))

    def may_give(self, k: int) -> float:
        u = self.units[k]
        if u.capacity == 0 or self.hold(k):
            return 0.0
        above = self.energy_after_aux(k) - self.floor(k)
        return min(u.discharge, max(0.0, above * u.eta_d / self.a.hours))

    def standby(self, k: int) -> tuple[float, float, float]:
        """Who would pay the standby of a unit that is off: own PV, own battery, AC bus (D4)."""
        u = self.units[k]
        by_pv = min(u.night, self.pv[k])
        by_battery = 0.0
        if u.capacity > 0 and not self.hold(k):
            above = max(0.0, (u.energy - self.floor(k)) * u.eta_d / self.a.hours)
            by_battery = min(u.night - by_pv, above - self.aux_from_battery(k))
        return by_pv, by_battery, u.night - by_pv - by_battery

    def ac_limit(self, k: int) -> float:
        u = self.units[k]
        if u.side == "g":
            return min(u.ac_out, u.grid_port)
        # min(out, load_b) is held by the backup port, the rest by the grid port
        if self.a.load_b > u.backup_port:
            return min(u.ac_out, u.backup_port)
        return min(u.ac_out, self.a.load_b + u.grid_port)

    def below_target(self, k: int) -> bool:
        u, s = self.units[k], self.slots[k]
        return s.kind == "charge_from_grid" and self.energy_after_aux(k) < s.target * u.capacity - 1e-9

    # -- the flows of D6 in their order
    def once(self) -> None:
        a, units = self.a, self.units
        self.s = [State(p) for p in self.pv]
        own = {"b": a.own_b, "g": a.own_g}
        for k, u in enumerate(units):
            own[u.side] += u.aux - self.aux_from_battery(k)
            if not self.started[k]:
                own[u.side] += self.standby(k)[2]
        self.own = own["b"] + own["g"]
        self.pv_b, self.pv_g = a.pv_b, a.pv_g
        self.cut_device = self.cut_cap = 0.0
        self.charge_b = self.out_b = 0.0

        def device_flow() -> float:
            return a.load_b + own["b"] + self.charge_b - self.pv_b - a.pv_b_fixed - self.out_b

        grid_side = a.load_g + own["g"] - a.pv_g - a.pv_g_fixed
        stuck = min(max(0.0, -device_flow() - a.device), self.pv_b)
        if stuck > 0 and grid_side >= a.device:  # the meter shows no surplus: nothing is started to relieve the device
            self.pv_b -= stuck
            self.cut_device, stuck = stuck, 0.0
        self.d = device_flow() + grid_side

        def put_out(k: int, watts: float) -> None:
            self.s[k].ac_out += watts
            self.d -= watts
            if units[k].side == "b":
                self.out_b += watts

        def room_outwards(k: int) -> float:
            return max(0.0, a.device + device_flow()) if units[k].side == "b" else INF

        def take_in(k: int, watts: float) -> None:
            self.s[k].ac_in += watts
            self.d += watts
            if units[k].side == "b":
                self.charge_b += watts

        def store_pv(k: int) -> None:
            s = self.s[k]
            if s.pv_left > TINY:
                s.pv_stored = min(s.pv_left, units[k].pv_to_battery, self.may_take(k))

        first = [k for k in range(len(units)) if self.below_target(k) and not self.usual[k]]
        for k in first:
            store_pv(k)
        # (2)
        for k, u in enumerate(units):
            if self.d > TINY:
                s = self.s[k]
                possible = u.out.given(s.pv_left)
                watts = min(self.d, self.ac_limit(k), room_outwards(k), possible)
                if watts > TINY:
                    s.pv_used = s.pv_left if watts == possible else u.out.source(watts)
                    put_out(k, watts)
        # (3)
        for k in range(len(units)):
            if k not in first:
                store_pv(k)
        # (4)
        for k, u in enumerate(units):
            s = self.s[k]
            if self.stays_off[k] or self.d >= -TINY or s.ac_out > 0 or s.pv_left > TINY or self.may_take(k) <= 0:
                continue
            surplus = -self.d
            watts = min(u.ac_in, surplus if u.side == "b" else surplus - stuck)
            if u.side == "b":
                watts = min(watts, max(0.0, a.device - device_flow()))
            if watts <= TINY:
                continue
            dc = u.charger.given(watts)
            free = self.may_take(k) - s.pv_stored
            if dc > free:
                dc, watts = free, u.charger.source(free)
            if dc > TINY:
                s.ac_stored = dc
                take_in(k, watts)
                if u.side == "b":
                    stuck = max(0.0, stuck - watts)
        if stuck > 0:
            self.pv_b -= stuck
            self.cut_device += stuck
            self.d += stuck
        # (5), with the cap already holding the AC-side surplus
        cap = a.cap - a.bias
        surplus_of_pv_only = -self.d
        for k, u in enumerate(units):
            s = self.s[k]
            if s.pv_left <= 0 or s.ac_in > 0:
                continue
            best = min(u.out.given(s.pv - s.pv_stored), self.ac_limit(k))
            more = best - s.ac_out
            if more <= 0 or (s.ac_out == 0 and more <= TINY):
                continue
            through = min(more, room_outwards(k))
            if s.ac_out == 0 and through <= TINY:
                through = 0.0
            if through < more:
                s.device_lost = u.out.source(best) - u.out.source(s.ac_out + through)
            granted = min(through, max(0.0, cap + self.d))
            if granted > 0 and (s.ac_out > 0 or granted > TINY):
                put_out(k, granted)
                s.pv_used = min(s.pv - s.pv_stored, u.out.source(s.ac_out))
        # (6)
        over = surplus_of_pv_only - cap
        if over > TINY:
            from_g = min(over, self.pv_g)
            from_b = min(over - from_g, self.pv_b)
            self.pv_g -= from_g
            self.pv_b -= from_b
            self.cut_cap = from_g + from_b
            self.d += self.cut_cap
        # (7)
        ask = self.d - max(a.bias, min(a.never, self.d))

        def serve(k: int, watts: float) -> float:
            u, s = units[k], self.s[k]
            watts = min(watts, self.ac_limit(k) - s.ac_out, room_outwards(k))
            if watts <= TINY:
                return 0.0
            total = min(s.ac_out + watts, u.out.given(s.pv + self.may_give(k)))
            gain = total - s.ac_out
            if gain <= TINY:
                return 0.0
            need = u.out.source(total)
            own_pv = min(need, s.pv - s.pv_stored)
            back = min(need - own_pv, s.pv_stored)
            s.pv_stored -= back
            s.pv_used = own_pv + back
            s.drawn = need - s.pv_used
            put_out(k, gain)
            return gain

        able = [k for k in range(len(units)) if self.may_give(k) > 0 and self.s[k].ac_in == 0]
        if ask > TINY and a.proportion:
            while able and ask > TINY:
                left = {k: (self.energy_after_aux(k) - self.floor(k)) * units[k].eta_d for k in able}
                shares = {k: ask * left[k] / sum(left.values()) for k in able}
                short = []
                for k in able:
                    got = serve(k, shares[k])
                    ask -= got
                    if got < shares[k] - TINY:
                        short.append(k)
                if not short:
                    break
                able = [k for k in able if k not in short]
        elif ask > TINY:
            for k in sorted(able, key=lambda k: -units[k].eta_c * units[k].eta_d):
                if ask > TINY:
                    ask -= serve(k, ask)
        # (8) and D9
        for k, u in enumerate(units):
            s, slot = self.s[k], self.slots[k]
            if self.stays_off[k] or not self.below_target(k) or self.usual[k] or s.ac_out > 0 or s.pv_left > TINY:
                continue
            total = min(slot.power, u.ac_in, s.ac_in + max(0.0, a.import_limit - self.d))
            if u.side == "b":
                total = min(total, s.ac_in + max(0.0, a.device - device_flow()))
            if total - s.ac_in <= TINY:
                continue
            to_target = (slot.target * u.capacity - self.energy_after_aux(k)) / (u.eta_c * a.hours)
            free = min(self.may_take(k), to_target) - s.pv_stored
            dc = u.charger.given(total)
            if dc > free:
                dc, total = free, u.charger.source(free)
            if dc > s.ac_stored + TINY:
                s.ac_stored = dc
                take_in(k, total - s.ac_in)
        self.through = device_flow()

    def settle(self) -> dict[str, float]:
        while True:
            self.once()
            again = False
            for k, s in enumerate(self.s):
                stuck = self.below_target(k) and not self.usual[k] and s.ac_in == 0 and s.pv_stored > 0
                if stuck and self.d > self.a.import_limit + TINY:
                    self.usual[k] = again = True
                runs = s.ac_out > 0 or s.ac_in > 0
                if not self.started[k] and runs and not self.stays_off[k]:
                    self.started[k] = True
                    again = again or self.standby(k)[2] > 0
                elif self.started[k] and not runs and self.standby(k)[2] > 0:
                    self.started[k], self.stays_off[k] = False, True
                    again = True
            if not again:
                return self.finish()

    def finish(self) -> dict[str, float]:
        a = self.a
        house, n = a.load_b + a.load_g, len(self.units)
        pv_only = self.pv_b + a.pv_b_fixed + self.pv_g + a.pv_g_fixed
        from_pv, batteries, of_pv = pv_only, 0.0, 0.0
        for k, (u, s) in enumerate(zip(self.units, self.s, strict=True)):
            on = s.ac_out > 0 or s.ac_in > 0
            by_pv, by_battery, by_bus = (0.0, 0.0, 0.0) if on else self.standby(k)
            startable = u.out.given(s.pv - s.pv_stored) > TINY
            unused = s.pv_left
            paid = min(by_pv, unused)
            unused -= paid
            s.pv_stored -= by_pv - paid
            above = max(0.0, s.pv - u.out.source(self.ac_limit(k)))
            caught = min(s.pv_stored, above)
            s.names["ac_limit"] = min(unused, above - caught)
            rest = unused - s.names["ac_limit"]
            s.names["below_start"] = rest if s.ac_out == 0 and not startable else 0.0
            s.names["device"] = min(rest - s.names["below_start"], s.device_lost)
            s.names["cap"] = rest - s.names["below_start"] - s.names["device"]
            s.names["caught"] = caught
            s.names["ac_own"] = u.aux - self.aux_from_battery(k) + by_bus
            s.names["leaving"] = s.drawn + by_battery + self.aux_from_battery(k)
            if s.ac_out > 0:
                part = s.drawn / (s.drawn + s.pv_used) * s.ac_out
                from_pv += s.ac_out - part
                batteries += part
                of_pv += part * (u.energy_pv / u.energy if u.energy > 0 else 0.0)
        charging = sum(s.ac_in for s in self.s)
        out = {"import": max(0.0, self.d), "export": max(0.0, -self.d), "own": self.own, "pv_only": pv_only}
        # D10: PV fills house, never loads, own draws, charging, export; batteries house, own draws, export, batteries
        wants = {
            "house": house - a.never,
            "never": a.never,
            "own": self.own,
            "charging": charging,
            "grid": out["export"],
        }
        got: dict[str, dict[str, float]] = {}
        for who, amount, order in (
            ("pv", from_pv, ("house", "never", "own", "charging", "grid")),
            ("battery", batteries, ("house", "own", "grid", "charging")),
        ):
            got[who] = dict.fromkeys(wants, 0.0)
            for want in order:
                got[who][want] = min(amount, wants[want])
                wants[want] -= got[who][want]
                amount -= got[who][want]
        share = of_pv / batteries if batteries > 0 else 0.0
        pv_in_charge = (got["pv"]["charging"] + got["battery"]["charging"] * share) / charging if charging else 0.0
        for k in range(n):
            u, s = self.units[k], self.s[k]
            if u.capacity > 0:
                mix = u.energy_pv / u.energy if u.energy > 0 else 0.0
                gone = s.names["leaving"] * a.hours / u.eta_d
                came = u.eta_c * a.hours
                u.energy_pv += came * (s.pv_stored + pv_in_charge * s.ac_stored) - mix * gone
                u.energy += came * (s.pv_stored + s.ac_stored) - gone
        out |= {
            "pv_to_house": got["pv"]["house"] + got["pv"]["never"],
            "pv_to_own": got["pv"]["own"],
            "pv_to_battery": got["pv"]["charging"],
            "pv_to_grid": got["pv"]["grid"],
            "battery_to_house": got["battery"]["house"],
            "battery_to_own": got["battery"]["own"],
            "grid_to_house": wants["house"] + wants["never"],
            "grid_to_battery": wants["charging"],
            "battery_pv_to_house": got["battery"]["house"] * share,
            "lost_device": self.cut_device,
            "lost_cap": self.cut_cap,
            "through": self.through,
            "cap_exceeded": max(0.0, out["export"] - a.cap),
            "import_exceeded": max(0.0, out["import"] - a.import_limit),
            "device_exceeded": max(0.0, abs(self.through) - a.device),
        }
        return out
