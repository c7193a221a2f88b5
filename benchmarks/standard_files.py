"""Read a folder of real BPMN files and hold the counts against XPath: python benchmarks/standard_files.py FOLDER.

The files are not kept here: test suites of the standard's engines, from their registry packages, are good ones.
"""

import sys
import tempfile
from collections import Counter
from pathlib import Path

from lxml import etree

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from test_standards import counted, seen
from zeitbuch.core.model.fingerprint import fingerprint
from zeitbuch.core.model.records import Estate
from zeitbuch.readers.reading.reader import Reader
from zeitbuch.writers.exchange.bpmn import to_bpmn

agree = differ = broken = kept = lost = 0
problems: Counter[str] = Counter()
for path in sorted(Path(sys.argv[1]).rglob("*.bpmn")):
    reader = Reader()
    flows = list(reader.read_sources([str(path)]))
    problems.update(p.code for p in reader.problems)
    try:
        wanted = counted(path.read_bytes())
    except etree.XMLSyntaxError:
        broken += 1
        continue
    if seen(flows) == wanted:
        agree += 1
    else:
        differ += 1
        print(f"{path}: expected {wanted}, found {seen(flows)}")
    with tempfile.TemporaryDirectory() as name:
        again = Path(name) / "again.bpmn"
        again.write_text(to_bpmn(Estate(flows=tuple(flows))))
        back = {f.id: fingerprint(f) for f in Reader().read_sources([str(again)])}
    if back == {f.id: fingerprint(f) for f in flows}:
        kept += 1
    else:
        lost += 1
        print(f"{path}: another fingerprint after the round trip")
print(f"{agree} files agree with XPath, {differ} differ, {broken} are no XML; round trip: {kept} equal, {lost} not")
print("problems:", dict(problems))
