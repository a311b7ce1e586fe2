"""The Recipe bench: how good, what it costs, and the draft factor."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ropebell.app.desk import Desk
from ropebell.app.number_fields import Scale, TunedNumber
from ropebell.app.parts import Choice, combo, label, pair, rule, scrolled_column
from ropebell.app.steps.recipe.keeping import RecipeKeeping
from ropebell.app.words import DRAFT_TITLES, DRAFTS, clock, megabytes, short_count
from ropebell.build.estimate import Estimate, estimate
from ropebell.build.extremes import extremes, machine_bytes
from ropebell.build.recipe import CONVERGED, Recipe, drafted, get, keys, origin, told_apart, with_value
from ropebell.build.setting_words import FORMATS, TITLES, setting_title
from ropebell.build.settings_cost import HELPS, StepCost, step_costs
from ropebell.build.shelf import known
from ropebell.build.stages import WORDS
from ropebell.light.workers import cores

# key, scale, what it buys and costs
MAIN = (
    ("density.texels_per_metre", Scale(0.5, 60, 1000, 1),
     "Sharper shadows and finer bounce. Texels, time and pages grow with its square."),
    ("light.gather_rays", Scale(4, 2048, 16384),
     "Less noise in bounced light and sky, by the root of the count. Time grows in proportion."),
    ("light.noise_target", Scale(0, 0.1, 1, 3, False),
     "Each texel is shot until its noise is below this share of its light; then the count is the most that is stored, "
     "and what is noisier still gets up to eight times as many at the end. 0: rays are only counted."),
)  # fmt: skip
MORE = (
    ("light.direct_samples", Scale(1, 256, 1024), "Smoother soft shadows of emitters."),
    ("sight.cell", Scale(0.1, 8, 100, 2), "Smaller ones tell more of corners, and take longer."),
    ("density.padding", Scale(0, 16, 32, 0, False), "Keeps charts apart for filters and mip levels."),
    ("density.page_size", Scale(64, 4096, 8192), "Largest side of a page."),
    ("light.bounce_gain", Scale(0, 4, 4, 2, False), "Strength of bounced light; 1 is physical."),
    ("light.bounce_saturation", Scale(0, 1, 1, 2, False), "Colour that bounced light keeps."),
    ("light.seed", Scale(0, 100, 2**31 - 1, 0, False), "Another seed gives other noise, nothing else."),
    ("limits.seconds", Scale(0, 3600, 1e6, 0), "A tripwire: the build stops itself; 0 is no limit."),
    ("limits.memory_mb", Scale(0, 65536, 1e7, 0), "Rays stay on disk to keep to it; 0 is none."),
)  # fmt: skip
# What the draft factor touches.
DRAFT_NAMES = {
    "density.texels_per_metre": "tx/m", "light.gather_rays": "rays", "light.direct_samples": "direct samples",
    "density.padding": "padding",
}  # fmt: skip
# Bounces of the last build that are told one by one: so many, and from so many per cent of its light on.
MOST_NAMED, LEAST_NAMED = 6, 0.1
# Bytes of memory that are worth telling of.
LEAST_TOLD = 5 << 20
OCCLUSION = (
    ("occlusion.radius", Scale(0.05, 5, 100, 2), "How far creases reach."),
    ("occlusion.strength", Scale(0, 1, 1, 2, False), "How dark creases get; an effect, not physics."),
)
FINISH = (
    ("finish.denoise", "Filters within what noise explains; lamp shadows stay sharp."),
    ("finish.stitch_seams", "Makes light meet where charts share an edge."),
    ("occlusion.enabled", "Darkens creases, from rays that are shot anyway."),
    ("output.directional", "A second page each: where light comes from, for bumpy surfaces."),
    ("sight.enabled", "Finds every way out; kept until something that blocks sight moves."),
)
INTEGERS = {
    "light.gather_rays",
    "light.direct_samples",
    "density.padding",
    "density.page_size",
    "light.seed",
    "limits.memory_mb",
}


class RecipeBench(QWidget):
    """One decision: how good the next build shall be."""

    def __init__(self, desk: Desk, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._desk = desk
        rows = scrolled_column(self)
        self._choices(rows)
        rows.addWidget(rule())
        self._settings(rows)
        self._further(rows)
        rows.addStretch(1)
        for signal in (desk.level.opened, desk.document.edited, desk.rope.stale_changed):
            signal.connect(self.refresh)

    def _choices(self, rows: QVBoxLayout) -> None:
        """Which recipe, how far as a draft, and what that costs."""
        rows.addWidget(label("Recipe", "title"))
        self.keeping = RecipeKeeping(self._desk)
        self.names = self.keeping.names
        rows.addWidget(self.keeping)
        rows.addWidget(label("Build it as", "heading"))
        self.draft = Choice(DRAFT_TITLES, "Draft factor")
        rows.addWidget(self.draft)
        self.draft_words = label("", "second")
        rows.addWidget(self.draft_words)
        self.cost = label("", "number")
        self.cost_words = label("", "second")
        rows.addWidget(self.cost)
        rows.addWidget(self.cost_words)
        self.different = label("", "second")
        rows.addWidget(self.different)
        self.draft.chosen.connect(self._drafted)

    def _settings(self, rows: QVBoxLayout) -> None:
        """What decides most: density, rays, bounces, and what is done to the light at the end."""
        self.numbers: dict[str, TunedNumber] = {}
        for spec in MAIN:
            rows.addWidget(self._number(*spec))
        rows.addWidget(self._bounces())
        self.switches: dict[str, QCheckBox] = {}
        for key, about in FINISH:
            box = QCheckBox(setting_title(key))
            box.setToolTip(about)
            box.clicked.connect(lambda on, key=key: self._set(key, bool(on)))
            self.switches[key] = box
            rows.addWidget(box)
        self.occlusion = [self._number(*spec) for spec in OCCLUSION]
        for row in self.occlusion:
            rows.addWidget(row)

    def _further(self, rows: QVBoxLayout) -> None:
        """What is rarely touched, folded away."""
        self.more_button = QPushButton("More settings")
        self.more_button.setCheckable(True)
        self.more_button.setProperty("role", "flat")
        rows.addWidget(self.more_button)
        self._more = QWidget()
        more_rows = QVBoxLayout(self._more)
        more_rows.setContentsMargins(0, 0, 0, 0)
        for spec in MORE:
            more_rows.addWidget(self._number(*spec))
        self.format = combo("Format of the pages")
        for key, words in FORMATS.items():
            self.format.addItem(words, key)
        self.format_words = label("", "second")
        more_rows.addWidget(pair(label("Pages as", wrap=False), self.format, stretch=1))
        more_rows.addWidget(self.format_words)
        self.format.activated.connect(lambda _: self._set("output.format", self.format.currentData()))
        self._more.setVisible(False)
        rows.addWidget(self._more)
        self.more_button.toggled.connect(self._more.setVisible)

    def _number(self, key: str, scale: Scale, about: str) -> TunedNumber:
        row = TunedNumber(*TITLES[key], scale, f"{about} {HELPS.get(key, '')}".strip())
        row.changed.connect(lambda value, gesture, key=key: self._set(key, value, gesture))
        self.numbers[key] = row
        return row

    def _bounces(self) -> QWidget:
        holder = QWidget()
        rows = QVBoxLayout(holder)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(2)
        self.bounces = TunedNumber(
            "Bounces",
            "",
            Scale(0, 16, 512, 0, False),
            "Each further bounce costs little: it is algebra on stored rays.",
        )
        self.bounces.changed.connect(lambda value, gesture: self._set("light.bounces", int(value), gesture))
        self.converged = QCheckBox("until a further bounce adds under 0.1 %")
        self.converged.clicked.connect(lambda on: self._set("light.bounces", CONVERGED if on else 4))
        line = QHBoxLayout()
        line.addWidget(self.converged)
        self.bounce_words = label("", "second")
        rows.addWidget(self.bounces)
        rows.addLayout(line)
        rows.addWidget(self.bounce_words)
        return holder

    # -- changes

    def _recipe(self) -> Recipe | None:
        return self._desk.document.project.recipe if self._desk.document.project is not None else None

    def _set(self, key: str, value: float | str, gesture: str = "") -> None:
        recipe = self._recipe()
        if recipe is None:
            return
        if key in INTEGERS:
            value = int(value)
        title = key.split(".")[1].replace("_", " ")
        self._desk.document.set_recipe(f"Change {title}", told_apart(with_value(recipe, key, value)), gesture)

    def _drafted(self, index: int) -> None:
        recipe = self._recipe()
        if recipe is not None:
            self._desk.document.set_recipe(
                f"Build as {DRAFT_TITLES[index]}", with_value(recipe, "draft", DRAFTS[index])
            )

    # -- showing

    def refresh(self) -> None:
        """Show the recipe as it is now, with what it will cost."""
        recipe, now = self._recipe(), self._desk.level.now
        if recipe is None or now is None:
            return
        self.keeping.refresh()
        self.draft.set_current(DRAFTS.index(recipe.draft))
        self.draft_words.setText(draft_words(recipe))
        workers = recipe.limits.workers or cores()
        whole = estimate(now.baking, recipe, workers, self._desk.rope.rates)
        odd = extremes(recipe, whole)
        for key, row in self.numbers.items():
            steps = step_costs(now.baking, recipe, key, workers, self._desk.rope.rates, whole)
            notes = (self._note(recipe, key), step_words(*steps))
            row.show_value(float(get(recipe, key)), "; ".join(n for n in notes if n), odd.get(key, ""))
        self.different.setText(self._differences(recipe))
        if not odd.keys().isdisjoint(key for key, *_ in MORE):
            self.more_button.setChecked(True)
        converged = recipe.light.bounces == CONVERGED
        self.converged.setChecked(converged)
        self.bounces.setEnabled(not converged)
        bounces = 8 if converged else float(recipe.light.bounces)
        self.bounces.show_value(bounces, self._note(recipe, "light.bounces"), odd.get("light.bounces", ""))
        built = self._desk.rope.manifest
        self.bounce_words.setText(bounce_words(built.energy if built is not None else ()))
        self.bounce_words.setVisible(bool(self.bounce_words.text()))
        for key, box in self.switches.items():
            box.setChecked(bool(get(recipe, key)))
        for row in self.occlusion:
            row.setVisible(recipe.occlusion.enabled)
        self.format.setCurrentIndex(self.format.findData(recipe.output.format))
        self.format_words.setText(self._format_words(recipe))
        self._show_cost(whole)

    def _format_words(self, recipe: Recipe) -> str:
        """What the chosen format costs, as the last build measured it."""
        built = self._desk.rope.manifest
        pages = built.pages if built is not None else ()
        found = [p.formats[recipe.output.format] for p in pages if recipe.output.format in p.formats]
        if not found:
            return "The next build measures what each format costs."
        rms = max(f["rms"] for f in found)
        largest = max(f["largest"] for f in found)
        size = megabytes(sum(f["bytes"] for f in found))
        return f"Last build: {100 * rms:.2g} % off in the mean, {100 * largest:.2g} % at most, {size}."

    def _note(self, recipe: Recipe, key: str) -> str:
        """What the value means where that is not plain; default and last-built value where they differ from it."""
        notes = []
        if key == "light.noise_target" and not recipe.light.noise_target:
            notes.append("off, so each texel gets all rays")
        if key == "light.gather_rays" and recipe.light.noise_target:
            notes.append("at most, until the noise target is met")
        default = self._default(recipe)
        value = get(recipe, key)
        if default is not None and get(default, key) != value:
            notes.append(f"{default.name} has {_plain(get(default, key))}")
        manifest = self._desk.rope.manifest
        if manifest is not None:
            last = get(manifest.recipe, key)
            if last != value:
                notes.append(f"last built {_plain(last)}")
        return ", ".join(notes)

    def _default(self, recipe: Recipe) -> Recipe | None:
        """What the recipe was chosen as: one that is kept, or one that ships."""
        project = self._desk.document.project
        return (known(project).get(recipe.name) if project is not None else None) or origin(recipe)

    def _differences(self, recipe: Recipe) -> str:
        """All that is not as in the recipe that was chosen, and not as last built, as a short list."""
        built, default = self._desk.rope.manifest, self._default(recipe)
        lines = []
        for what, other in (
            (default.name if default is not None else "", default),
            ("the last build", built.recipe if built is not None else None),
        ):
            if other is None:
                continue
            some = [key for key in keys() if key not in ("draft", "name") and get(recipe, key) != get(other, key)]
            told = ", ".join(f"{_words(key)} {_plain(get(recipe, key))} ({_plain(get(other, key))})" for key in some)
            lines.append(f"As in {what}." if not some else f"Not as in {what}: {told}.")
        return "\n".join(lines)

    def _show_cost(self, whole: Estimate) -> None:
        stale = self._desk.rope.stale
        texels = stale.texels if stale is not None else whole.texels
        self.cost.setText(
            f"{short_count(texels)} texels, about {clock(max(whole.total_seconds + 1.4, 1))} from nothing"
        )
        words = f"{short_count(whole.rays)} rays, {megabytes(whole.memory_bytes)} of memory."
        if whole.memory_bytes > machine_bytes():
            words += f" This machine has {megabytes(machine_bytes())}: rays will wait for the disk."
        if stale is not None and not stale.fresh and stale.changes != ("never built",):
            anew = ", ".join(WORDS[stage].lower() for stage in stale.stages)
            words += f" Now {clock(stale.seconds)}; to be made anew: {anew}."
        self.cost_words.setText(words)


def draft_words(recipe: Recipe) -> str:
    """Every setting that the draft factor touches, final value and drafted one side by side."""
    if recipe.draft == 1:
        return "The recipe's own values."
    pairs = [(name, get(recipe, key), drafted(recipe, key)) for key, name in DRAFT_NAMES.items()]
    told = ", ".join(f"{name} {final:g} → {draft:g}" for name, final, draft in pairs if final != draft)
    return f"Built as {told}. The recipe keeps its own values."


def step_words(up: StepCost | None, down: StepCost | None) -> str:
    """What one step up, and one down, would change."""
    parts = []
    costs = [cost for cost in (up, down) if cost is not None]
    if costs and not any(cost.felt for cost in costs):
        return f"This draft is the same at {' and at '.join(f'{cost.value:g}' for cost in costs)}."
    for cost in costs:
        sign = "+" if cost.seconds > 0 else "−"
        time = f"{sign}{clock(abs(cost.seconds))}" if abs(cost.seconds) >= 0.5 else "as long"
        size = "" if abs(cost.memory_bytes) < LEAST_TOLD else (
            f", {'+' if cost.memory_bytes > 0 else '−'}{megabytes(abs(cost.memory_bytes))}"
        )  # fmt: skip
        parts.append(f"{round(cost.value, 1):g}: {time}{size}")
    return "at " + "; at ".join(parts) if parts else ""


def bounce_words(energy: Sequence[float]) -> str:
    """What each bounce of a build added, in the mean over its texels; empty without a bounce.

    Args:
        energy: lux, direct light first.
    """
    total = sum(energy)
    if len(energy) < 2 or total <= 0:
        return ""
    shares = [100 * e / total for e in energy[1:]]
    told = max(sum(s >= LEAST_NAMED for s in shares[:MOST_NAMED]), 1)
    named = ", ".join(f"{s:.2g}" if s < 10 else f"{s:.0f}" for s in shares[:told])
    rest = f"; the {len(shares) - told} after them {sum(shares[told:]):.2g} %" if len(shares) > told else ""
    return f"Of the last build's light {100 * energy[0] / total:.0f} % is direct; bounces add {named} %{rest}."


def _words(key: str) -> str:
    """A setting's name for people."""
    part, _, name = key.partition(".")
    return part if name == "enabled" else name.replace("_", " ")


def _plain(value: float | str) -> str:
    """A setting's value for people."""
    if isinstance(value, bool):
        return "on" if value else "off"
    return value if isinstance(value, str) else f"{value:g}"
