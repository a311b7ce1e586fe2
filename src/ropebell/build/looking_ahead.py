"""Faults that are known before the longest stage of a build: of charts alone, and what lamps alone make too bright.

Who is told may stop at once, by hand or by a tripwire. What they are in the finished light is found again then.
"""

from __future__ import annotations

import numpy as np

from ropebell.build.stage import Work
from ropebell.build.stages.charts import CHARTS
from ropebell.build.stages.direct import DIRECT
from ropebell.build.stages.footing import FOOTING
from ropebell.build.stages.scene import SCENE
from ropebell.errors import Stopped
from ropebell.faults.after import AFTER, GROUND, GROWS, Looked
from ropebell.faults.lit import Lit, Settings
from ropebell.level.finding import Finding
from ropebell.light.fields import Glow, Sources, lamp_light
from ropebell.light.solve import Solution
from ropebell.light.transport import Hits


def look_ahead(work: Work) -> list[Finding]:
    """What can be found with the light of lamps alone; told as it is found.

    A build of a part is not looked at: most of its texels are an earlier build's.
    """
    scene = work[SCENE].scene
    if not work.request.scope.whole or not len(work[CHARTS].texels):
        return []
    grows = work[SCENE].gathered.subject.brief.white > 0 and not any((x.strength < 0).any() for x in scene.lights)
    wanted = [one for one in AFTER if one.needs == (GROUND,) or (grows and one.needs == (GROWS,))]
    lit, found = lit_by_lamps(work), list[Finding]()
    for one in wanted:
        work.check_stop()
        try:
            found += one.find(Looked(lit))
        except Stopped:
            raise
        except Exception:  # noqa: BLE001 - the look at the finished light meets it again, and tells
            continue
    work.log.warn(found)
    return found


def lit_by_lamps(work: Work) -> Lit:
    """The level with nothing but the light of lamps."""
    placed, (atlas, texels, _), recipe = work[SCENE], work[CHARTS], work.recipe
    count, samples = len(texels), work[FOOTING].samples
    lamps = Sources(work[DIRECT].lights, {}, None)
    light, dark = lamp_light(placed.scene, lamps, count), np.zeros((count, 3), np.float32)
    settings = Settings(
        recipe.gather_rays, recipe.direct_samples, recipe.light.seed, 0, recipe.padding, recipe.draft,
        workers=work.workers,
    )  # fmt: skip
    return Lit(
        placed.gathered.subject, placed.surface, placed.space, atlas, texels, samples,
        Hits.of(np.zeros((count, 0), np.int32)), lamps, Glow.of(placed.scene, texels),
        Solution(light, light, dark, (0.0,), 0), light, light, None, dark, (0.0, 0.0, 0.0), settings,
    )  # fmt: skip
