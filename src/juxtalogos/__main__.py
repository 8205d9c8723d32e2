from juxtalogos.start import entry

entry()
