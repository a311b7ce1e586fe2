"""Write the sample level as a project folder."""

from __future__ import annotations

from pathlib import Path

import ropebell
from ropebell.demo.tide_mill import tide_mill
from ropebell.errors import UsageError, why
from ropebell.files import write_bytes, write_text
from ropebell.level.gltf_write import plain_glb

LEVEL_NAME = "tide-mill.glb"
PROJECT = """\
name = "Tide Mill"
level = "tide-mill.glb"
sky = "overcast"
tables = ["emitters/common.csv", "emitters/salt-works.csv"]

[skies.overcast]
color = [310.0, 360.0, 450.0]

[skies.dusk]
color = [46.0, 38.0, 62.0]

[view]
eye = [14.3, 2.0, 16.3]
yaw = -0.66
pitch = -0.07

[recipe]
name = "final"
draft = 8

[recipe.density]
texels_per_metre = 20.0
padding = 4

[recipe.light]
gather_rays = 512
direct_samples = 64
bounces = "converged"

[lights."lights/quay lamp"]
mode = "live"

[marks."structure/roof back"]
density = 4.0
note = "raised to look for the leak"

[marks."structure/pillar 2".bias]
oak = 4.0

[marks."detail/glazing"]
role = "blocks"
casts = false
bounces = false
note = "closes windows and doors to sight; light passes"

[marks."detail/sluice gate"]
pose = "open"
usual = "shut"

[marks."detail/hatch"]
role = "moving"
note = "opens onto the chute"

[marks."props/sack on the hatch"]
role = "moving"
note = "players carry it"

[marks."detail/sluice gate".poses.open]
move = [0.0, 1.55, 0.0]

[marks."detail/sluice gate".poses.shut]
"""
TABLES = {
    "common.csv": """\
# How strongly our materials glow, for every level of the harbour.
material,r,g,b,strength
ember,1.0,0.346,0.085,2600
lamp glass,1.0,0.827,0.577,5200
mooring glass,1.0,0.84,0.58,310000
skylight,0.75,0.839,1.0,560
""",
    "salt-works.csv": """\
# The salt works' own.
material,r,g,b,strength
brine lamp,0.7,0.9,1.0,2400
pan glow,1.0,0.5,0.2,900
furnace door,1.0,0.42,0.1,6200
""",
}


def write_demo(folder: Path, halls: int = 1) -> Path:
    """Write level and project.toml into `folder`; files that are there already are kept.

    Returns:
        The project's folder.

    Raises:
        UsageError: the folder cannot be written.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
        level = folder / LEVEL_NAME
        if not level.exists():
            write_bytes(level, plain_glb(tide_mill(level, halls), f"Rope Bell {ropebell.__version__} sample level"))
        project = folder / "project.toml"
        if not project.exists():
            write_text(project, PROJECT)
        (folder / "emitters").mkdir(exist_ok=True)
        for name, text in TABLES.items():
            if not (folder / "emitters" / name).exists():
                write_text(folder / "emitters" / name, text)
    except OSError as error:
        raise UsageError(f"the sample level cannot be written ({why(error)})", folder, "Name another folder") from error
    return folder
