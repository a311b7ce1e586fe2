"""The one title, unit and way to write of each setting of a build, wherever people read of it."""

from __future__ import annotations

from typing import Any

# By key of the recipe, or of what is set beside it: the title, and the unit if it has one.
TITLES: dict[str, tuple[str, str]] = {
    "name": ("Recipe", ""),
    "draft": ("Draft factor", ""),
    "density.texels_per_metre": ("Density", "tx/m"),
    "density.page_size": ("Page size", "tx"),
    "density.padding": ("Padding", "tx"),
    "light.gather_rays": ("Gather rays", "rays"),
    "light.direct_samples": ("Direct samples", "rays"),
    "light.bounces": ("Bounces", ""),
    "light.bounce_gain": ("Bounce gain", "×"),
    "light.bounce_saturation": ("Bounce colour", "×"),
    "light.seed": ("Seed", ""),
    "light.noise_target": ("Noise target", "of light"),
    "occlusion.enabled": ("Ambient occlusion", ""),
    "occlusion.radius": ("Distance of occlusion", "m"),
    "occlusion.strength": ("Strength of occlusion", "×"),
    "finish.denoise": ("Denoise gathered light", ""),
    "finish.stitch_seams": ("Close seams", ""),
    "output.directional": ("Direction for relief", ""),
    "output.format": ("Format of pages", ""),
    "sight.enabled": ("Leaks, and who sees whom", ""),
    "sight.cell": ("Sight cells", "m"),
    "limits.seconds": ("Time limit", "s"),
    "limits.memory_mb": ("Memory limit", "MB"),
    "limits.workers": ("Workers", ""),
    "sky": ("Sky", "cd/m²"),
    "worker": ("Arithmetic", ""),
    "scope": ("What is lit", ""),
    "machine.load": ("Load of the machine", ""),
    "machine.workers": ("Workers", ""),
    "machine.watched": ("Watched", ""),
    "reused": ("Stages that were re-used", ""),
}
FORMATS = {
    "half": "half-float OpenEXR", "shared-exponent": "shared exponent (.hdr)", "8-bit": "8-bit with a scale (.png)",
}  # fmt: skip


def setting_title(key: str) -> str:
    """Name a setting for people; a key without a title, such as a lamp's path, is its own, and of several keys each."""
    if ", " in key and key not in TITLES:
        return ", ".join(map(setting_title, key.split(", ")))
    if key in TITLES:
        return TITLES[key][0]
    group, _, last = key.partition(".")
    return f"{last.capitalize()} of the {group}" if group in ("machine", "program") and last else key


def setting_in_words(key: str, value: Any) -> str:
    """A value of a setting with its unit: on and off, numbers as short as they are, nothing as the usual."""
    unit = TITLES.get(key, ("", ""))[1]
    if isinstance(value, bool):
        return "on" if value else "off"
    if value in (None, "", []):
        return "none" if key in ("reused", "sky") else "as usual"
    if key == "output.format":
        return FORMATS.get(str(value), str(value))
    if isinstance(value, list | tuple):
        words = ", ".join(f"{v:.4g}" if isinstance(v, float) else str(v) for v in value)
    else:
        words = f"{value:.6g}" if isinstance(value, float) else str(value)
    return f"{words} {unit}" if unit and not isinstance(value, str) else words
