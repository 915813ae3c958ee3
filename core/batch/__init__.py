"""Many performances unattended: which files belong together, by which rules they are analysed, what was found.

- :mod:`~core.batch.rules`: what the engineer says of kinds of material
- :mod:`~core.batch.takes`: performances in folders
- :mod:`~core.batch.outputs`: the files that are written for each
- :mod:`~core.batch.work`: one performance, from its files to its outputs
- :mod:`~core.batch.running`: all of them, on a pool of processes or a cluster
- :mod:`~core.batch.sending`: a take for machines that do not see its files
- :mod:`~core.batch.report`: which need an ear
- :mod:`~core.batch.tags`: tempo and first beat in the files' own tags
"""
