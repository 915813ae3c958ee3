"""Puts what comes from npm, and the manual's pictures, into the package before a wheel is built (`make wheel`)."""

import shutil

from studio import settings

#: What of the packages is served; the rest are sources and types.
_SERVED = ("*-no-helpers.min.css", "*.js", "*.woff2")


def main() -> None:
    """Copy the vendored files to studio/vendor, with the licences of their packages."""
    modules, to = settings.BASE / "node_modules", settings.BASE / "studio" / "vendor"
    for name, at in settings.VENDORED.items():
        target = to / name
        target.mkdir(parents=True, exist_ok=True)
        for pattern in _SERVED:
            for file in (modules / at).glob(pattern):
                shutil.copyfile(file, target / file.name)
        package = modules.joinpath(*at.split("/")[: 2 if at.startswith("@") else 1])
        for licence in package.glob("LICENSE*"):
            shutil.copyfile(licence, target / licence.name)
    sounds = to / "sounds"
    sounds.mkdir(parents=True, exist_ok=True)
    shutil.copyfile(settings.SOUND_SET, sounds / "FluidR3Mono_GM.sf3")
    shutil.copyfile(settings.SOUND_SET.parent / "FluidR3Mono_License.md", sounds / "LICENSE.md")
    shutil.copytree(settings.BASE / "docs" / "screenshots", to / "pictures", dirs_exist_ok=True)


if __name__ == "__main__":
    main()
