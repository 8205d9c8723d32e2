from juxtalogos.cli.main import entry

entry()
