"""Files: study files, prompts, made-up models, result records.

Here: reading, checking and writing of files a person or another program keeps.
Not here: the database (store), pictures (charts), where folders are (config).
May import: zinc_kettle.core, wire, ports, session, present, errors, and packages for formats.
"""
