"""A slow, plain reference of one simulation step, written from the product's definitions D3–D10 and nothing else.

Rule by rule, each with its number. No array, no closed form for the inverter (bisection instead), no shared code with the product.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import partial

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
    peak_hold: float = 1.0  # SoC below which energy serves only what is above the peak target (D9)
    volts: tuple[float, float] | None = None  # at SoC 0 and 1, where amps limit
    charge_a: float = INF
    discharge_a: float = INF
    # Storing loss by power: charging puts η_c·P − κ_c·P² − p₀ into the cells, giving takes P/η_d + κ_d·P² + p₀ out of them.
    take_square: float = 0.0
    give_square: float = 0.0
    store_self: float = 0.0
    forms: bool = True  # can form voltage and frequency of an island
    restart: float = 0.0  # SoC below which an island's loads are not served, so that the forming unit is there in the morning
    # of this step
    keep: float = 0.0  # Wh of room kept for what will be clipped (mode 6)
    charge_part: float = 1.0  # by the cells' temperature
    discharge_part: float = 1.0
    heat: float = 0.0  # W at the terminals
    car: float = 0.0  # W asked by a car charger on the DC side (decision 98)
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
    target: float = INF  # peak shaving
    at_device: bool = False  # the sensor: at the meter, or at the transfer device (D8)
    island: bool = False  # no grid: the backup side alone (decision 92)
    order: str = "like"  # like units in proportion | priority | best_round_trip | proportion
    hours: float = 1.0


@dataclass
class State:
    """What a unit does in this step."""

    pv: float
    ac_out: float = 0.0
    ac_in: float = 0.0  # all of it: from surplus and from the grid
    granted: float = 0.0  # the part of ac_in that a charge slot draws from the grid (D9)
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
        self.n = len(units)
        self.feed_cars()
        self.started = [False] * self.n  # D4: searched from all units off
        self.usual = [False] * self.n  # D9: follows the usual order for this step
        self.fixed_b = around.pv_b_fixed
        self.stays_off = [False] * self.n

    def feed_cars(self) -> None:
        """A car on a unit's DC side takes its DC PV first; the rest comes through its charger from AC, as a load that batteries
        never feed. While it does, the unit does nothing else: one AC direction (D5), its battery in hold."""
        self.car_pv, self.car_in, self.car_dc, self.busy = [0.0] * self.n, [0.0] * self.n, [0.0] * self.n, [False] * self.n
        for k, u in enumerate(self.units):
            self.car_pv[k] = min(u.car, self.pv[k])
            self.pv = [p - (self.car_pv[k] if j == k else 0.0) for j, p in enumerate(self.pv)]
            rest = u.car - self.car_pv[k]
            if rest <= TINY or self.a.island:  # without a grid a car gets sun alone
                continue
            self.car_in[k] = min(u.charger.source(rest), u.ac_in)
            self.car_dc[k] = min(rest, u.charger.given(self.car_in[k]))
            self.busy[k] = True
        on_b = sum(w for w, u in zip(self.car_in, self.units, strict=True) if u.side == "b")
        on_g = sum(self.car_in) - on_b
        self.a = replace(self.a, load_b=self.a.load_b + on_b, load_g=self.a.load_g + on_g, never=self.a.never + on_b + on_g)

    # ---- D3, D9: what a battery may take and give, above the floor in force
    def floor(self, k: int) -> float:
        """D9: the greatest of SoC_min, reserve, slot floor and, in charge and surplus slots, the target. [Wh]"""
        u, s = self.units[k], self.slots[k]
        if self.a.island:  # D16: slots and reserve are off
            return u.soc_min * u.capacity
        levels = [u.soc_min, u.reserve, s.floor]
        if s.kind in ("charge_from_grid", "surplus_only", "timer"):
            levels.append(s.target)
        return max(levels) * u.capacity

    def idle(self, k: int) -> bool:
        """D9 hold, or no battery; or its unit feeds a car."""
        return self.slots[k].kind == "hold" or self.units[k].capacity == 0 or self.busy[k]

    def above_floor(self, k: int, energy: float) -> float:
        """Watts at the terminals that what lies above the floor gives for the step (D3: E −= P·Δ/η_d)."""
        return max(0.0, (energy - self.floor(k)) * self.units[k].eta_d / self.a.hours)

    def aux_from_battery(self, k: int) -> float:
        """D3: auxiliaries at the terminals while above the floor; in hold the AC bus pays. Heating is one of them."""
        return 0.0 if self.idle(k) else min(self.draws(k), self.above_floor(k, self.units[k].energy))

    def draws(self, k: int) -> float:
        return self.units[k].aux + self.units[k].heat

    def into_cells(self, k: int, watts: float) -> float:
        """Watts that arrive in the cells of what charges at the terminals, never less than none."""
        u = self.units[k]
        return max(0.0, u.eta_c * watts - u.take_square * watts**2 - u.store_self) if watts > 0 else 0.0

    def out_of_cells(self, k: int, watts: float, beside: float) -> float:
        """Watts that leave the cells for what goes into the inverter, and for standby and auxiliaries beside it."""
        u = self.units[k]
        run = u.give_square * watts**2 + u.store_self if watts > 0 else 0.0
        return (watts + beside) / u.eta_d + run

    def gives_at_worst(self, k: int, energy: float) -> float:
        """Watts that energy in the cells gives for the step for sure: at the loss of the most that may be drawn."""
        u = self.units[k]
        most = u.discharge if u.volts is None else min(u.discharge, u.discharge_a * u.volts[1])
        worst = 1 / u.eta_d + (u.give_square * most if u.give_square > 0 else 0.0)
        return (energy / self.a.hours - u.store_self) / worst

    def energy_after_aux(self, k: int) -> float:
        """D3: auxiliaries are taken from E before the step's limits are set."""
        return self.units[k].energy - self.aux_from_battery(k) * self.a.hours / self.units[k].eta_d

    def may_take(self, k: int) -> float:
        """D3 taper at the SoC of the start of the step; D5: at most the room, over η_c."""
        if self.idle(k):
            return 0.0
        u = self.units[k]
        soc, limit = u.energy / u.capacity, min(u.charge, self.amps_w(k, u.charge_a)) * u.charge_part
        if u.taper_soc < u.soc_max and soc > u.taper_soc:
            along = min(1.0, (soc - u.taper_soc) / (u.soc_max - u.taper_soc))
            limit = limit + along * (u.taper_end * limit - limit)
        return min(limit, max(0.0, self.room(k) / (u.eta_c * self.a.hours)))

    def amps_w(self, k: int, amps: float) -> float:
        """Power is amps × volts, and volts follow the charge at the start of the step."""
        u = self.units[k]
        if u.volts is None:
            return INF
        return amps * (u.volts[0] + (u.volts[1] - u.volts[0]) * u.energy / u.capacity)

    def clip_potential(self, k: int) -> float:
        """D7: X, what the AC limit cannot pass."""
        return max(0.0, self.pv[k] - self.units[k].out.source(self.ac_limit(k)))

    def may_take_freely(self, k: int) -> float:
        """D9: clipped part only, and discharge to the grid, charge X alone; mode 6 keeps room for what will be clipped."""
        if self.slots[k].kind in ("clipped_only", "discharge_to_grid"):
            return 0.0
        u = self.units[k]
        if self.idle(k) or self.below_target(k):
            return self.may_take(k)
        return min(self.may_take(k), max(0.0, (self.room(k) - u.keep) / (u.eta_c * self.a.hours)))

    def room(self, k: int) -> float:
        """Wh at the cells up to SoC_max, before what (3) stores."""
        return self.units[k].soc_max * self.units[k].capacity - self.energy_after_aux(k)

    def may_give(self, k: int, peak: bool = False) -> float:
        """D9: what lies below the peak-hold SoC serves only the part of D above the target (`peak`)."""
        if self.idle(k):
            return 0.0
        u = self.units[k]
        above = max(0.0, self.gives_at_worst(k, self.left(k, peak) / u.eta_d))
        return min(min(u.discharge, self.amps_w(k, u.discharge_a)) * u.discharge_part, above)

    def left(self, k: int, peak: bool = False) -> float:
        """D6: usable energy left, at the terminals; above the peak-hold where there is a target and this is not the peak. [Wh]"""
        u, level = self.units[k], self.floor(k)
        if self.a.target < INF and not peak:
            level = max(level, u.peak_hold * u.capacity)
        if self.a.island and not peak:
            level = max(level, u.restart * u.capacity)
        return (self.energy_after_aux(k) - level) * u.eta_d

    def standby(self, k: int) -> tuple[float, float, float]:
        """D4: who pays the standby of a unit that is off: own DC PV, else own battery above its floor, else the AC bus."""
        u = self.units[k]
        if self.busy[k]:  # it is on
            return 0.0, 0.0, 0.0
        # D4: what forms the grid is on all the time: without AC power it draws p_self in place of standby
        draw = u.out.p_self if self.a.island and u.forms else u.night
        by_pv = min(draw, self.pv[k])
        by_battery = 0.0
        if not self.idle(k):
            by_battery = min(draw - by_pv, self.above_floor(k, u.energy) - self.aux_from_battery(k))
        return by_pv, by_battery, draw - by_pv - by_battery

    def dark(self) -> bool:
        """D16: nothing that forms the grid can start on its own DC PV and its battery, whatever AC-coupled PV there is."""
        able = [k for k, u in enumerate(self.units) if u.forms]
        return self.a.island and not any(self.units[k].out.given(self.pv[k] + self.may_give(k, peak=True)) > TINY for k in able)

    def ac_limit(self, k: int) -> float:
        """D5: one ac_out; a backup-port limit holds min(out, load_b), a grid-port limit the rest."""
        u = self.units[k]
        if self.busy[k]:
            return 0.0
        if u.side == "g":
            return min(u.ac_out, u.grid_port)
        return min(u.ac_out, u.backup_port if self.a.load_b > u.backup_port else self.a.load_b + u.grid_port)

    def below_target(self, k: int) -> bool:
        """D9: in a charge-from-grid slot and below its target."""
        u, s = self.units[k], self.slots[k]
        return (
            not self.busy[k] and s.kind in ("charge_from_grid", "timer") and self.energy_after_aux(k) < s.target * u.capacity - 1e-9
        )

    # ---- D6: groups and shares
    def groups(self, *, giving: bool) -> list[list[int]]:
        """D6 'Order among batteries': lists of units, each list sharing in proportion, the lists one after the other."""

        def alike(k: int) -> tuple[object, ...]:
            u = self.units[k]
            skip = ("side", "reserve", "energy", "energy_pv", "keep", "charge_part", "discharge_part", "heat", "car")
            return tuple(str(v) for name, v in sorted(vars(u).items()) if name not in skip)

        def trip(k: int) -> float:
            return self.units[k].eta_c * self.units[k].eta_d

        everyone = list(range(self.n))
        if self.a.order == "proportion":
            return [everyone]
        if self.a.order == "priority":
            return [[k] for k in everyone]
        if self.a.order == "best_round_trip":
            return [[k] for k in sorted(everyone, key=lambda k: (-trip(k), k))]
        made: list[list[int]] = []
        for k in everyone:
            mine = next((g for g in made if alike(g[0]) == alike(k)), None)
            made.append([k]) if mine is None else mine.append(k)
        return sorted(made, key=lambda g: (-trip(g[0]), g[0])) if giving else made

    def share(self, group: list[int], ask: float, weight, grant) -> float:  # type: ignore[no-untyped-def]
        """D6: who gets less than its share drops out and the rest is shared by the same weights. Returns what was granted."""
        able, total = [k for k in group if weight(k) > 0], 0.0
        while able and ask - total > TINY:
            asked = ask - total
            shares = {k: asked * weight(k) / sum(weight(j) for j in able) for k in able}
            short = []
            for k in able:
                got = grant(k, shares[k])
                total += got
                if got < shares[k] - TINY:
                    short.append(k)
            if not short:
                break
            able = [k for k in able if k not in short]
        return total

    # ---- D8: the device
    def flow(self) -> float:
        """P_T without what slots draw: grid charging makes no room outwards."""
        return self.a.load_b + self.own["b"] + self.charge_b - self.pv_b - self.fixed_b - self.out_b

    def nothing_at_ac(self) -> None:
        """A dark island: DC PV charges its own battery, all else stands still."""
        self.cut_device, self.cut_cap, self.pv_b = 0.0, self.pv_b, 0.0
        self.cut_off, self.through, self.net, self.d = [], 0.0, 0.0, 0.0
        for k in range(self.n):
            self.store_pv(k)

    def outwards(self, k: int) -> float:
        return max(0.0, self.a.device + self.flow()) if self.units[k].side == "b" else INF

    def put_out(self, k: int, watts: float) -> None:
        self.s[k].ac_out += watts
        self.d -= watts
        if self.units[k].side == "b":
            self.out_b += watts

    def take_in(self, k: int, watts: float, most: float = INF) -> float:
        """Charge unit k by up to `watts` more at AC (D5); returns what its charger took."""
        u, s = self.units[k], self.s[k]
        total = min(s.ac_in + watts, u.ac_in, most)
        if total - s.ac_in <= TINY:
            return 0.0
        dc, free = u.charger.given(total), self.may_take_freely(k) - s.pv_stored
        if dc > free:
            dc, total = free, u.charger.source(free)
        if dc <= s.ac_stored + TINY:
            return 0.0
        got = total - s.ac_in
        s.ac_stored, s.ac_in = dc, total
        self.d += got
        if u.side == "b":
            self.charge_b += got
        return got

    def may_charge_from_ac(self, k: int) -> bool:
        """D5: one direction; who has DC PV over does not import; D9: not in hold. A charger that was cut off stays off."""
        s = self.s[k]
        if self.busy[k]:
            return False
        if self.slots[k].kind == "own_pv_only":  # a charger on a time switch hears no meter
            return False
        if self.slots[k].kind == "timer" and self.below_target(k):  # takes its watts by the clock, whatever the sun does
            return False
        return not self.stays_off[k] and s.ac_out == 0 and s.pv_left <= TINY and self.may_take_freely(k) > s.pv_stored

    def trapped(self) -> float:
        """D8: controllable PV of the backup side that the device would cut, even where other PV shares the side."""
        return min(max(0.0, -self.flow() - self.a.device), self.pv_b)

    def cut_trapped(self) -> None:
        cut = self.trapped()
        self.pv_b -= cut
        self.cut_device += cut
        self.d += cut

    def store_pv(self, k: int) -> None:
        s = self.s[k]
        if s.pv_left > TINY:
            most = max(self.may_take_freely(k), self.clip_potential(k))
            s.pv_stored = min(s.pv_left, self.units[k].pv_to_battery, self.may_take(k), most)

    def after_pv(self, k: int) -> float:
        """D6: room left in Wh at the cells after (3), the weight when taking."""
        return self.room(k) - self.units[k].eta_c * self.s[k].pv_stored * self.a.hours

    # ---- D6, once through with the present on/off set
    def once(self) -> None:
        a, units = self.a, self.units
        self.s = [State(p) for p in self.pv]
        self.own = {"b": a.own_b, "g": a.own_g}
        for k, u in enumerate(units):  # D4: the AC part of standby, and auxiliaries the battery does not pay, are load
            self.own[u.side] += self.draws(k) - self.aux_from_battery(k)
            if not self.started[k]:
                self.own[u.side] += self.standby(k)[2]
        self.pv_b, self.pv_g = a.pv_b, a.pv_g
        if a.island:  # what nobody can throttle is held back all the same: by the frequency, or by its trips
            self.pv_b, self.fixed_b = a.pv_b + a.pv_b_fixed, 0.0
        if self.dark():
            self.nothing_at_ac()
            return
        self.cut_device = self.cut_cap = self.charge_b = self.out_b = 0.0
        # (1) D = load − AC-side PV; D8: a sensor at the device sees P_T alone, and holds 0 W outwards there
        self.beyond = a.load_g + self.own["g"] - a.pv_g - a.pv_g_fixed
        self.d = self.flow() if a.at_device else self.flow() + self.beyond
        cap_seen = 0.0 if a.at_device else a.cap
        limit_in = min(a.import_limit, a.target)  # D9: charge slots within target − D
        if self.d + self.trapped() >= 0:  # D8: not counted in D; without a surplus beside it nothing is started for it
            self.cut_trapped()
        # D9: below its target in a charge slot a node's PV charges its own battery before serving the house
        first = [k for k in range(self.n) if self.below_target(k) and not self.usual[k]]
        for k in first:
            self.store_pv(k)
        # (2) DC PV to the house, by priority. The cap in force, cap − s, holds it like any source.
        kept_back = max(0.0, a.bias - cap_seen)
        for k, u in enumerate(units):
            if self.d > TINY:
                s = self.s[k]
                allowed = self.d - kept_back
                if u.side == "b":  # (6): a cut never pushes the device further over
                    allowed = max(allowed, min(self.d, self.flow() - a.device))
                possible = u.out.given(s.pv_left)
                watts = min(allowed, self.ac_limit(k), self.outwards(k), possible)
                if watts > TINY:
                    s.pv_used = s.pv_left if watts == possible else u.out.source(watts)
                    self.put_out(k, watts)
        # (3) what is left charges its own battery
        for k in range(self.n):
            if k not in first:
                self.store_pv(k)
        # (4) the AC surplus charges batteries
        for group in self.groups(giving=False):
            if self.d < -TINY:

                def take(k: int, watts: float) -> float:
                    # D8: what the device will cut in the end is no surplus; own-side charging may spare it, unless PV that
                    # nobody can cut keeps the device over all the same
                    room = -self.d
                    if units[k].side == "g" or room < -self.flow() - a.device - TINY:
                        room -= self.trapped()
                    if units[k].side == "b":
                        room = min(room, max(0.0, a.device - self.flow()))
                    return self.take_in(k, min(watts, room))

                self.share([k for k in group if self.may_charge_from_ac(k)], -self.d, self.after_pv, take)
        self.cut_trapped()
        # (5) DC PV left goes out: first into other nodes' batteries
        for k in range(self.n):
            self.send(k)
        for s in self.s:
            s.granted = 0.0
        from_surplus = any(s.ac_in > 0 for s in self.s)
        # D9: a slot's grid charging, after the charging of (5) and before its exports
        drawn_b = 0.0
        for k, u in enumerate(units):
            s = self.s[k]
            if not self.below_target(k) or self.usual[k] or self.stays_off[k] or s.ac_out > 0 or s.pv_left > TINY:
                continue
            total = min(self.slots[k].power, u.ac_in)
            if u.side == "b":
                total = min(total, s.ac_in + max(0.0, a.device - self.flow() - drawn_b))
            to_target = (self.slots[k].target * u.capacity - self.energy_after_aux(k)) / (u.eta_c * a.hours)
            free = min(self.may_take(k), to_target) - s.pv_stored
            dc = u.charger.given(total)
            if dc > free:
                dc, total = free, u.charger.source(free)
            if total - s.ac_in > TINY and dc > s.ac_stored + TINY:
                s.granted, s.ac_in, s.ac_stored = total - s.ac_in, total, dc
                drawn_b += s.granted if u.side == "b" else 0.0
        slots_draw = sum(s.granted for s in self.s)
        # the cap in force; while a battery charges from surplus it does not make it draw from the grid
        cap = cap_seen - a.bias
        if from_surplus:
            cap = max(cap, 0.0)
        # (5) and (6): exports by priority within what the cap leaves; AC-side PV is in it first
        before = self.d + slots_draw
        for k, u in enumerate(units):
            s = self.s[k]
            if s.pv_left <= 0 or s.ac_in > 0:
                continue
            best = min(u.out.given(s.pv - s.pv_stored), self.ac_limit(k))
            more = best - s.ac_out
            if more <= 0 or (s.ac_out == 0 and more <= TINY):
                continue
            passes = min(more, self.outwards(k))
            if s.ac_out == 0 and passes <= TINY:
                passes = 0.0
            if passes < more:
                s.device_lost = u.out.source(best) - u.out.source(s.ac_out + passes)
            watts = min(passes, max(0.0, cap + self.d + slots_draw))
            if watts > 0 and (s.ac_out > 0 or watts > TINY):
                self.put_out(k, watts)
                s.pv_used = min(s.pv - s.pv_stored, u.out.source(s.ac_out))
        # (6) then PV-only inverters, the grid side before the backup side; never pushing the device further over
        excess = -before - cap
        if excess > TINY:
            from_g = 0.0 if a.at_device else min(excess, self.pv_g)
            from_b = min(excess - from_g, self.pv_b, max(0.0, a.device - self.flow() - drawn_b))
            self.pv_g -= from_g
            self.pv_b -= from_b
            self.cut_cap = from_g + from_b
            self.d += self.cut_cap
        # (7) batteries serve D − s, and never the 'never' loads, which PV reaches last (D10); D9: then what is above the peak
        # target is served from below the peak-hold, the target itself, without s
        self.given = [0.0] * self.n
        for peak, kept in ((False, a.bias), (True, a.target)):
            ask = self.d - max(kept, min(a.never, self.d))
            for group in self.groups(giving=True):
                if ask > TINY:
                    able = [k for k in group if self.may_give(k, peak) > 0 and self.s[k].ac_in == 0]
                    ask -= self.share(able, ask, partial(self.left, peak=peak), partial(self.give, peak=peak))
        # D9 discharge to grid: the battery's AC output is W, house included, up to cap and floor; not while a never load draws
        for k in range(self.n):
            if self.slots[k].kind == "discharge_to_grid" and self.s[k].ac_in == 0 and min(a.never, self.d) <= TINY:
                self.give(k, max(0.0, cap + self.d + slots_draw), False)
        # (8) the rest is imported; an import cap first cuts charging, the last in priority first
        over = self.d + slots_draw - limit_in
        self.cut_off: list[int] = []
        for k in reversed(range(self.n)):
            s = self.s[k]
            if over > TINY and s.granted > 0 and self.slots[k].kind != "timer":
                cut = min(over, s.granted)
                over -= cut
                slots_draw -= cut
                if units[k].side == "b":
                    drawn_b -= cut
                s.granted -= cut
                s.ac_in -= cut
                s.ac_stored = units[k].charger.given(s.ac_in)
                if s.ac_stored <= TINY:
                    self.cut_off.append(k)
        self.through = self.flow() + drawn_b
        self.net = self.d + slots_draw + (self.beyond if a.at_device else 0.0)

    def send(self, k: int) -> None:
        """(5): DC PV left of unit k goes out through its own inverter into other nodes' batteries."""
        a, u, s = self.a, self.units[k], self.s[k]
        if s.pv_left <= 0 or s.ac_in > 0:
            return
        best = min(u.out.given(s.pv - s.pv_stored), self.ac_limit(k))

        def out(watts: float) -> None:
            self.put_out(k, watts)
            s.pv_used = min(s.pv - s.pv_stored, u.out.source(s.ac_out))

        # D8: while P_T is over inwards, DC PV of the backup side relieves it first
        if u.side == "b":
            relief = min(best - s.ac_out, self.flow() - a.device)
            if relief > TINY:
                out(relief)
        others = [j for j in range(self.n) if j != k and self.may_charge_from_ac(j)]
        house = max(0.0, self.d)  # what s kept back is given first, else nothing is sent: the meter must show a surplus
        if house <= TINY:
            house = 0.0
        if house > min(best - s.ac_out, self.outwards(k)):
            return

        def room(j: int) -> float:
            most = best - s.ac_out - house
            if u.side == "b" and self.units[j].side == "g":
                most = min(most, self.outwards(k) - house)
            if u.side == "g" and self.units[j].side == "b":
                most = min(most, max(0.0, a.device - self.flow()))
            return most

        given = 0.0
        for group in self.groups(giving=False):
            members = [j for j in group if j in others]

            def pass_on(j: int, watts: float) -> float:
                nonlocal house, given
                watts = min(watts, room(j))
                if s.ac_out == 0 and house + watts <= TINY:
                    return 0.0
                got = self.take_in(j, watts)
                if got > 0:
                    out(got + house)
                    given, house = given + got, 0.0
                return got

            offer = best - s.ac_out - house
            if members and offer > TINY:
                self.share(members, offer, self.after_pv, pass_on)

    def give(self, k: int, watts: float, peak: bool) -> float:
        """(7): within ac_out left, discharge limit, floor and device; own unused PV first, then what (3) stored, then cells."""
        u, s = self.units[k], self.s[k]
        watts = min(watts, self.ac_limit(k) - s.ac_out, self.outwards(k))
        if self.slots[k].kind == "discharge_to_grid":  # D9: W is all AC output of the battery, house included
            watts = min(watts, self.slots[k].power - self.given[k])
        if watts <= TINY:
            return 0.0
        total = min(s.ac_out + watts, u.out.given(s.pv + self.may_give(k, peak)))
        gain = total - s.ac_out
        if gain <= TINY:
            return 0.0
        need = u.out.source(total)
        own_pv = min(need, s.pv - s.pv_stored)
        back = min(need - own_pv, s.pv_stored)
        s.pv_stored -= back
        s.pv_used = own_pv + back
        s.drawn = need - s.pv_used
        self.given[k] += gain
        self.put_out(k, gain)
        return gain

    def settle(self) -> dict[str, float]:
        """D4: repeated until the on/off set no longer changes; D6 (8): again without a charger that was cut off."""
        while True:
            self.once()
            again = False
            for k in self.cut_off:
                self.stays_off[k], self.started[k] = True, False
                again = True
            if again:
                continue
            for k, s in enumerate(self.s):
                # D9: an import limit that leaves no AC charging and is still exceeded
                stuck = self.below_target(k) and not self.usual[k] and s.ac_in == 0 and s.pv_stored > 0
                stuck = stuck and self.slots[k].kind != "timer"
                if stuck and self.d > min(self.a.import_limit, self.a.target) + TINY:
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
        """D7 names of loss, D10 origin, D3 energies."""
        a = self.a
        house = a.load_b + a.load_g
        own = self.own["b"] + self.own["g"]
        pv_only = self.pv_b + self.fixed_b + self.pv_g + a.pv_g_fixed
        from_pv, batteries, of_pv = pv_only, 0.0, 0.0
        for k, (u, s) in enumerate(zip(self.units, self.s, strict=True)):
            on = s.ac_out > 0 or s.ac_in > 0
            by_pv, by_battery, by_bus = (0.0, 0.0, 0.0) if on else self.standby(k)
            startable = u.out.given(s.pv - s.pv_stored) > TINY
            unused = s.pv_left
            paid = min(by_pv, unused)
            unused -= paid
            s.pv_stored -= by_pv - paid
            above = self.clip_potential(k)
            caught = min(s.pv_stored, above)
            s.names["ac_limit"] = min(unused, above - caught)
            rest = unused - s.names["ac_limit"]
            s.names["below_start"] = rest if s.ac_out == 0 and not startable else 0.0
            s.names["device"] = min(rest - s.names["below_start"], s.device_lost)
            s.names["cap"] = rest - s.names["below_start"] - s.names["device"]
            if a.island:  # D7: the last name of loss
                s.names["island"], s.names["cap"] = s.names["cap"], 0.0
            s.names["caught"] = caught
            s.names["car"], s.names["car_short"] = self.car_pv[k], u.car - self.car_pv[k] - self.car_dc[k]
            s.names["ac_own"] = self.draws(k) - self.aux_from_battery(k) + by_bus
            s.names["beside"] = by_battery + self.aux_from_battery(k)
            if s.ac_out > 0:
                part = s.drawn / (s.drawn + s.pv_used) * s.ac_out
                from_pv += s.ac_out - part
                batteries += part
                of_pv += part * (u.energy_pv / u.energy if u.energy > 0 else 0.0)
        surplus, slots = sum(s.ac_in - s.granted for s in self.s), sum(s.granted for s in self.s)
        charging = surplus + slots
        if a.island:  # nothing crosses where no grid is: what is left is not served
            self.net = min(0.0, self.net)
        out = {"import": max(0.0, self.net), "export": max(0.0, -self.net), "own": own, "pv_only": pv_only}
        # D10: PV fills house, never loads, own draws, charging, export; batteries house, own draws, export, other batteries
        wants = {"house": house - a.never, "never": a.never, "own": own, "charging": charging, "grid": out["export"]}
        got: dict[str, dict[str, float]] = {}
        for who, amount, order in (
            ("pv", from_pv, ("house", "never", "own", "charging", "grid")),
            # a sensor at the device does not know that PV beyond it serves the house: what is left then lies on 'never' loads
            ("battery", batteries, ("house", "own", "grid", "charging", "never")),
        ):
            got[who] = dict.fromkeys(wants, 0.0)
            for want in order:
                got[who][want] = min(amount, wants[want])
                wants[want] -= got[who][want]
                amount -= got[who][want]
        share = of_pv / batteries if batteries > 0 else 0.0
        # D10: PV goes first to what charges from surplus, the rest in proportion
        to_surplus = min(got["pv"]["charging"], surplus)
        left_pv = got["pv"]["charging"] - to_surplus
        open_ac = charging - got["pv"]["charging"]
        for k, (u, s) in enumerate(zip(self.units, self.s, strict=True)):
            pv_part = 0.0
            if s.ac_in > 0:
                mine = (s.ac_in - s.granted) * (to_surplus / surplus if surplus > 0 else 0.0)
                mine += s.granted * (left_pv / slots if slots > 0 else 0.0)
                rest = s.ac_in - mine
                mine += share * rest * (got["battery"]["charging"] / open_ac if open_ac > 0 else 0.0)
                pv_part = mine / s.ac_in
            if u.capacity > 0:
                mix = u.energy_pv / u.energy if u.energy > 0 else 0.0
                all_stored = s.pv_stored + s.ac_stored
                gone = self.out_of_cells(k, s.drawn, s.names["beside"]) * a.hours
                came = self.into_cells(k, all_stored) * a.hours
                of_that = (s.pv_stored + pv_part * s.ac_stored) / all_stored if all_stored > 0 else 0.0
                u.energy_pv += came * of_that - mix * gone
                u.energy += came - gone
        if a.island:  # own draws come after the house; what nobody pays is not drawn
            out["own"] -= wants["own"]
        out |= {
            "pv_to_house": got["pv"]["house"] + got["pv"]["never"],
            "pv_to_own": got["pv"]["own"],
            "pv_to_battery": got["pv"]["charging"],
            "pv_to_grid": got["pv"]["grid"],
            "battery_to_house": got["battery"]["house"] + got["battery"]["never"],
            "battery_to_own": got["battery"]["own"],
            "grid_to_house": 0.0 if a.island else wants["house"] + wants["never"],
            "grid_to_battery": wants["charging"],
            "battery_pv_to_house": (got["battery"]["house"] + got["battery"]["never"]) * share,
            "lost_device": self.cut_device,
            "lost_cap": 0.0 if a.island else self.cut_cap,
            "lost_island": self.cut_cap if a.island else 0.0,
            "unserved": wants["house"] + wants["never"] if a.island else 0.0,
            "through": self.through,
            "cap_exceeded": max(0.0, out["export"] - a.cap),
            "import_exceeded": max(0.0, out["import"] - a.import_limit),
            "peak_exceeded": max(0.0, out["import"] - a.target),
            "device_exceeded": max(0.0, abs(self.through) - a.device),
        }
        return out
