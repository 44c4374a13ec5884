"""What the string planner may use of a roof: the room left, the strings that stay, or the modules that stand, to be rewired."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection
from typing import Literal

from calm_relay.errors import NotFeasible
from calm_relay.job.models import Job, Node, Plan, StringGroup
from calm_relay.job.rows import strings_kept
from calm_relay.job.sky_models import Face
from calm_relay.library.book import CardBook
from calm_relay.library.cards import ModuleCard
from calm_relay.packs.pack import Pack
from calm_relay.plant.resolve import unit_at
from calm_relay.plant.rows import inverter_rows
from calm_relay.plant.unit import Unit
from calm_relay.pv.fit import face_room
from calm_relay.pv.limits import extremes_of, string_amps
from calm_relay.pv.planner import ArrayLimit, FaceRoom, KeptStrings, Setup
from calm_relay.pv.voltage import rear_gain_frac

MOST_ROOM = 40  # modules offered on a face whose room is not typed
Mode = Literal["anew", "keep", "rewire"]
MODES: tuple[tuple[Mode, str], ...] = (
    ("anew", "all strings of this inverter anew"),
    ("keep", "keep its strings, add to them"),
    ("rewire", "rewire the modules that stand today"),
)


def group_stc_w(group: StringGroup, cards: CardBook) -> float:
    """Return the STC power of a string group. [W]"""
    return group.modules_per_string * group.parallel_strings * cards.module(group.module).power_stc_w


def modules_by_face(plan: Plan, cards: CardBook, *, module: str | None = None, without_node: str = "") -> Counter[str]:
    """Return how many modules a plan has on each face, of one card where `module` names it."""
    count = Counter[str]()
    for node in plan.nodes:
        units = node.count if cards.inverter(node.card).per_module else 1
        for group in node.strings if node.id != without_node else ():
            if module in (None, group.module):
                count[group.face] += group.modules_per_string * group.parallel_strings * units
    return count


def _room(face: Face, module: ModuleCard) -> int:
    room = face_room(face, module)
    return MOST_ROOM if room is None else room


def array_stc_w(node: Node, cards: CardBook) -> float:
    """Return the STC power of a node's strings; of module-level inverters, of all units. [W]"""
    units = node.count if cards.inverter(node.card).per_module else 1
    return units * sum(group_stc_w(group, cards) for group in node.strings)


def carried_w(plan: Plan, cards: CardBook, *, without_node: str = "") -> tuple[float, float]:
    """Return STC watts and AC ratings of the inverters that carry PV (definitions D12), one of them left out. [W]"""
    array = rated = 0.0
    for node, card in inverter_rows(plan, cards):
        if node.strings and node.id != without_node:
            rated += card.ac_rated_w * card.unit_count(node.count)
            array += array_stc_w(node, cards)
    return array, rated


def _most_array(job: Job, plan: Plan, node: Node, card: Unit, cards: CardBook) -> ArrayLimit | None:
    """Return the most STC watts an inverter's own strings may have: by its card, or by a ratio of network or rebate."""
    out = []
    ratio = card.ratio_limit(node.battery is not None)
    if ratio is not None:
        out.append(ArrayLimit(ratio * card.ac_rated_w, f"the card allows a ratio of {ratio:g}"))
    array, rated = carried_w(plan, cards, without_node=node.id)
    for name, limit in job.site.network.ratio_limits():
        most = max(0.0, limit * (rated + card.ac_rated_w) - array)
        out.append(ArrayLimit(most, f"the {name} allows a ratio of {limit:g}"))
    return min(out, key=lambda row: row.most_w, default=None)


def _kept(job: Job, group: StringGroup, cards: CardBook) -> KeptStrings:
    module = cards.module(group.module)
    amps = string_amps(group, module, job.face(group.face), cards.optimizer(group.optimizer), extremes_of(job.site))
    return KeptStrings(amps, module.series_fuse_max_a, group.fuse_a is not None)


def planner_setup(
    job: Job,
    plan: Plan,
    node_id: str,
    module: ModuleCard,
    cards: CardBook,
    mode: Mode,
    pack: Pack,
    optimizer: str = "",
    keep: Collection[str] = (),
) -> tuple[Setup, StringGroup]:
    """Return what the planner works on, and a string group whose age and losses the new strings have.

    ``anew`` plans all of the inverter's trackers on the room that the plan's other inverters leave; ``keep`` leaves its strings
    where they are and fills other trackers and the room left; ``rewire`` takes exactly the modules of this card that stand in
    today's system, face by face, in new strings; with `keep`, strings by id, those of the inverter stay as they are and the others'
    modules are rewired.

    Raises
    ------
    NotFeasible
        When the inverter has no trackers, a temperature the voltages need is not known, or there is nothing to rewire.
    """
    node = plan.node(node_id)
    card, worn = unit_at(node, cards, 1), cards.optimizer(optimizer)
    if not card.pv_inputs or card.per_module:
        raise NotFeasible(f"{node.name} takes no strings", "choose an inverter with trackers")
    at = extremes_of(job.site)
    if at.low_c is None or (at.high_c is None and at.cell_c is None):
        raise NotFeasible("the record low or the design high is not known", "type both on Site & roof")
    like = StringGroup(id="one", face=job.faces[0].id, module=module.id, tracker=1, modules_per_string=1)
    kept = strings_kept(node, mode, keep)
    if mode == "rewire":
        room = modules_by_face(job.plans[0], cards, module=module.id)
        room.subtract(modules_by_face(plan, cards, module=module.id, without_node=node_id))
        for group in kept:
            if group.module == module.id:
                room[group.face] -= group.modules_per_string * group.parallel_strings
        room = Counter({face: count for face, count in room.items() if count > 0})
        if not room:
            raise NotFeasible(f"no {module.name} stands in today's system", "choose the module that stands, or plan anew")
        old = next(g for n in job.plans[0].nodes for g in n.strings if g.module == module.id)
        like = old.model_copy(update={"id": "one", "fuse_a": None, "measured": None})
    else:
        taken = modules_by_face(plan, cards, without_node=node_id if mode == "anew" else "")
        room = Counter({f.id: max(0, _room(f, module) - taken[f.id]) for f in job.faces})
    if worn is not None:
        like = like.model_copy(update={"optimizer": worn.id})
    setup = Setup(
        module=module,
        faces=tuple(FaceRoom(f.id, f.name, room[f.id], f.mounting, rear_gain_frac(module, f)) for f in job.faces),
        trackers=card.trackers,
        dc_voltage_max_v=card.dc_voltage_max_v,
        ac_rated_w=card.ac_rated_w,
        loss=card.loss,
        array_limit=_most_array(job, plan, node, card, cards),
        at=at,
        pack=pack,
        local_ceiling_v=job.site.dc_ceiling_v,
        optimizer=worn,
        closed=frozenset(g.tracker for g in kept),
        kept_stc_w=sum(group_stc_w(g, cards) for g in kept),
        joined=card.trackers_paralleled,
        kept=tuple(_kept(job, g, cards) for g in kept) if card.trackers_paralleled else (),
        back_feed_a=card.back_feed_a or 0.0,
    )
    return setup, like
