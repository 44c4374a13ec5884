"""The job document: models, container file, migrations, references, history."""
