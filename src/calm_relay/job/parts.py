"""Adding and taking out parts of a job: faces, appliances, inverters, strings. Pure: each returns a changed job."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import Any, Literal

from calm_relay.errors import BadInput, Fault
from calm_relay.job.control_models import Controls, Slot
from calm_relay.job.house_models import Appliance
from calm_relay.job.models import BatteryChoice, Job, Node, Plan, StringGroup, Transfer
from calm_relay.job.rows import strings_kept
from calm_relay.job.sky_models import Face
from calm_relay.library.base import NAME_CHARS
from calm_relay.library.cards import Card
from calm_relay.library.shipped import shipped_card

Side = Literal["backup", "grid"]


def free_id(base: str, used: Iterable[str]) -> str:
    """Return ``base-1``, ``base-2`` … whichever is free first."""
    taken = set(used)
    return next(name for n in range(1, 1000) if (name := f"{base}-{n}") not in taken)


def _free_name(name: str, plan: Plan) -> str:
    """Return a name that no inverter of a plan has: with a number where it is taken, no longer than names may be."""
    called = {n.name for n in plan.nodes}
    numbered = (name if n == 1 else f"{name[: NAME_CHARS - 3]} {n}" for n in range(1, 99))
    return next(made for made in numbered if made not in called)


def with_cards(job: Job, cards: Iterable[Card]) -> Job:
    """Return the job with cards copied into its library, where they are not there yet."""
    have = job.cards()
    return job.model_copy(update={"library": (*job.library, *(card for card in cards if card.id not in have))})


def with_plan(job: Job, plan: Plan) -> Job:
    """Return the job with a plan in place of the one of its id."""
    return job.model_copy(update={"plans": tuple(plan if p.id == plan.id else p for p in job.plans)})


def with_node(job: Job, plan_id: str, node: Node) -> Job:
    """Return the job with an inverter of a plan in place of the one of its id."""
    plan = job.plan(plan_id)
    return with_plan(job, plan.model_copy(update={"nodes": tuple(node if n.id == node.id else n for n in plan.nodes)}))


def add_face(job: Job) -> tuple[Job, str]:
    """Return the job with another roof face like the last one, and its id."""
    made = free_id("face", (f.id for f in job.faces))
    like = job.faces[-1] if job.faces else Face(id=made, name="", tilt_deg=30.0, azimuth_deg=180.0)
    face = like.model_copy(update={"id": made, "name": f"Face {len(job.faces) + 1}"})
    return job.model_copy(update={"faces": (*job.faces, face)}), made


def remove_face(job: Job, face_id: str) -> Job:
    """Return the job without a face; raises BadInput where strings lie on it."""
    for plan in job.plans:
        for node in plan.nodes:
            for group in node.strings:
                if group.face == face_id:
                    problem = f"string {group.id} of plan {plan.letter} lies on this face"
                    raise BadInput([Fault("", f"faces[{face_id}]", problem, "move or remove the string first")])
    return job.model_copy(update={"faces": tuple(f for f in job.faces if f.id != face_id)})


def add_appliance(job: Job) -> tuple[Job, str]:
    """Return the job with another appliance, and its id."""
    made = free_id("load", (a.id for a in job.house.appliances))
    load = Appliance(
        id=made, name=f"Appliance {len(job.house.appliances) + 1}", running_w=1000.0, run_h=1.0, window_start_h=17, window_end_h=21
    )
    house = job.house.model_copy(update={"appliances": (*job.house.appliances, load)})
    return job.model_copy(update={"house": house}), made


def put_appliance(job: Job, load: Appliance) -> tuple[Job, str]:
    """Return the job with a ready appliance under a free id and name, and its id."""
    used = {a.id for a in job.house.appliances} | {"background"}
    made = load.id if load.id not in used else free_id(load.id, used)
    name = load.name if made == load.id else f"{load.name} {made.rpartition('-')[2]}"
    house = job.house.model_copy(update={"appliances": (*job.house.appliances, load.model_copy(update={"id": made, "name": name}))})
    return job.model_copy(update={"house": house}), made


def remove_appliance(job: Job, load_id: str) -> Job:
    """Return the job without an appliance, taken out of every backup list and off every DC side as well."""
    house = job.house.model_copy(update={"appliances": tuple(a for a in job.house.appliances if a.id != load_id)})
    plans = []
    for plan in job.plans:
        transfer = plan.transfer
        if transfer is not None and load_id in transfer.listed:
            transfer = transfer.model_copy(update={"listed": tuple(i for i in transfer.listed if i != load_id)})
        nodes = tuple(n.model_copy(update={"dc_car": None}) if n.dc_car == load_id else n for n in plan.nodes)
        plans.append(plan.model_copy(update={"transfer": transfer, "nodes": nodes}))
    return job.model_copy(update={"house": house, "plans": tuple(plans)})


def add_inverter(job: Job, plan_id: str, card: Card, side: Side = "grid") -> tuple[Job, str]:
    """Return the job with an inverter of a card put into a plan, on one side of the transfer device, and the node's id."""
    plan = job.plan(plan_id)
    made = free_id("inverter", (n.id for n in plan.nodes))
    name = {"pv_inverter": "PV inverter", "module_inverter": "Module inverters", "hybrid": "Hybrid"}.get(
        card.kind, "Battery inverter"
    )
    name = _free_name(name, plan)
    node = Node(id=made, name=name, card=card.id, side="backup" if plan.off_grid else side)
    return with_plan(with_cards(job, [card]), plan.model_copy(update={"nodes": (*plan.nodes, node)})), made


def remove_inverter(job: Job, plan_id: str, node_id: str) -> Job:
    """Return the job without an inverter and what hangs on it; a slot that held for it alone goes too."""
    plan = job.plan(plan_id)
    nodes = tuple(n for n in plan.nodes if n.id != node_id)
    controls = plan.controls.model_copy(update={"slots": slots_for(plan.controls, nodes)})
    return with_plan(job, plan.model_copy(update={"nodes": nodes, "controls": controls}))


def slots_for(controls: Controls, nodes: Iterable[Node]) -> tuple[Slot, ...]:
    """Return the slots of controls where only these inverters stand; one that held for others alone is left out."""
    here = {node.id for node in nodes}
    out = []
    for slot in controls.slots:
        held = tuple(i for i in slot.nodes if i in here)
        if held or not slot.nodes:
            out.append(slot.model_copy(update={"nodes": held}))
    return tuple(out)


def like_inverter(plan: Plan, node: Node) -> Node:
    """Return another inverter with battery like one of a plan, no strings and no car on it, under an id and a name of its own."""
    made = free_id(node.id, (n.id for n in plan.nodes))
    return node.model_copy(update={"id": made, "name": _free_name(node.name, plan), "strings": (), "dc_car": None})


def add_like_inverter(job: Job, plan_id: str, node_id: str) -> tuple[Job, str]:
    """Return the job with another inverter and battery like one that is there, no strings on it, and the new node's id."""
    plan = job.plan(plan_id)
    like = like_inverter(plan, plan.node(node_id))
    return with_plan(job, plan.model_copy(update={"nodes": (*plan.nodes, like)})), like.id


def put_battery(job: Job, plan_id: str, node_id: str, card: Card, modules: int) -> Job:
    """Return the job with a new bank of so many modules on an inverter."""
    node = job.plan(plan_id).node(node_id)
    choice = BatteryChoice(card=card.id, modules=modules)
    return with_node(with_cards(job, [card]), plan_id, node.model_copy(update={"battery": choice}))


def put_modules(job: Job, plan_id: str, node_id: str, modules: int) -> Job:
    """Return the job with so many modules in an inverter's bank; leads of single branches are typed anew."""
    node = job.plan(plan_id).node(node_id)
    assert node.battery is not None
    choice = node.battery.model_copy(update={"modules": modules, "leads_ohm": ()})
    return with_node(job, plan_id, node.model_copy(update={"battery": choice}))


def remove_battery(job: Job, plan_id: str, node_id: str) -> Job:
    """Return the job without the bank of an inverter."""
    node = job.plan(plan_id).node(node_id)
    return with_node(job, plan_id, node.model_copy(update={"battery": None}))


def new_transfer(job: Job, card: Card, *, whole: bool = False) -> Transfer:
    """Return a transfer device: behind it the whole house, else the loads marked as essential, else what is no appliance."""
    if whole:
        return Transfer(card=card.id, backed_up="whole_house")
    essential = tuple(a.id for a in job.house.counted if a.essential)
    return Transfer(card=card.id, backed_up="listed", listed=essential or ("background",))


def put_transfer(job: Job, plan_id: str, card: Card) -> Job:
    """Return the job with a transfer device in a plan, with what stands behind it."""
    plan = job.plan(plan_id)
    return with_plan(with_cards(job, [card]), plan.model_copy(update={"transfer": new_transfer(job, card)}))


def remove_transfer(job: Job, plan_id: str) -> Job:
    """Return the job without the transfer device of a plan; without it there is one side only, and all stands on it."""
    plan = job.plan(plan_id)
    nodes = tuple(n.model_copy(update={"side": "grid"}) for n in plan.nodes)
    return with_plan(job, plan.model_copy(update={"transfer": None, "nodes": nodes}))


def add_string(job: Job, plan_id: str, node_id: str, module: Card | None = None) -> tuple[Job, str]:
    """Return the job with a string on the first tracker that has none, and the string's id.

    Raises
    ------
    BadInput
        When the inverter has no tracker left, or the job has no face.
    """
    plan = job.plan(plan_id)
    node = plan.node(node_id)
    cards = job.cards()
    card = cards.inverter(node.card)
    trackers = len(card.trackers if node.controller is None else cards.controller(node.controller).trackers * node.controllers)
    used = {group.tracker for group in node.strings}
    free = next((n for n in range(1, trackers + 1) if n not in used), None)
    if free is None:
        problem = "no tracker is left" if trackers else "this inverter has no PV input"
        raise BadInput([Fault("", f"plans[{plan_id}].nodes[{node_id}]", problem, "use strings in parallel, or another inverter")])
    if not job.faces:
        raise BadInput([Fault("", "faces", "there is no roof face", "add one first")])
    made = free_id("string", (g.id for n in plan.nodes for g in n.strings))
    chosen: Any = module or shipped_card("module-430")
    used_faces = {g.face for n in plan.nodes for g in n.strings}
    face = next((f.id for f in job.faces if f.id not in used_faces), job.faces[0].id)
    each = 1 if card.per_module else 8
    group = StringGroup(id=made, face=face, module=chosen.id, tracker=free, modules_per_string=each)
    changed = node.model_copy(update={"strings": (*node.strings, group)})
    return with_node(with_cards(job, [chosen]), plan_id, changed), made


def remove_string(job: Job, plan_id: str, node_id: str, string_id: str) -> Job:
    """Return the job without a string."""
    node = job.plan(plan_id).node(node_id)
    return with_node(job, plan_id, node.model_copy(update={"strings": tuple(g for g in node.strings if g.id != string_id)}))


def put_strings(
    job: Job,
    plan_id: str,
    node_id: str,
    module: Card,
    rows: Iterable[tuple[int, str, int, int, float | None]],
    *,
    mode: str = "anew",
    optimizer: Card | None = None,
    keep: Collection[str] = (),
) -> Job:
    """Return the job with strings put on an inverter; rows are (tracker, face, modules in series, strings in
    parallel, string fuse or None).

    ``anew`` and ``rewire`` replace its strings, ``keep`` adds to them; rewired modules keep the age and the losses that they have
    in today's system; strings whose ids are in `keep` stay.
    """
    plan = job.plan(plan_id)
    node = plan.node(node_id)
    groups = list(strings_kept(node, mode, keep))
    others = {g.id for n in plan.nodes if n.id != node_id for g in n.strings}
    old = [g for n in job.plans[0].nodes for g in n.strings if g.module == module.id]
    like = {name: getattr(old[0], name) for name in ("age_years", "other_loss_frac", "losses")} if mode == "rewire" and old else {}
    for tracker, face, modules, strings, fuse in rows:
        made = free_id("string", others | {g.id for g in groups})
        groups.append(
            StringGroup(
                id=made, face=face, module=module.id, tracker=tracker, modules_per_string=modules, parallel_strings=strings,
                fuse_a=fuse, optimizer=None if optimizer is None else optimizer.id, **like,
            )
        )  # fmt: skip
    cards = [module] if optimizer is None else [module, optimizer]
    return with_node(with_cards(job, cards), plan_id, node.model_copy(update={"strings": tuple(groups)}))
