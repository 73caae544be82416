"""What is declared once is whole: evidence, tables, sources, thresholds, resources, verbs."""

import ast
import string
import unittest
from typing import get_args

from dunmist.advice import VERBS, declared_evidence, ladder, resource_words
from dunmist.computer import KERNEL_MESSAGE_KINDS
from dunmist.diagnosis import KINDS, RESOURCES, ResourceWord, thresholds
from dunmist.diagnosis.findings import RULES
from dunmist.diagnosis.findings.kernel_messages import EVIDENCE_OF, TABLE
from dunmist.diagnosis.words import EvidenceKey
from dunmist.fixing import VERB_RULES, owner_text
from dunmist.sampling import SOURCES, Tick
from dunmist.series.code_use import CodeCollector
from dunmist.series.devices import DeviceCollector
from dunmist.series.file_use import FileCollector
from dunmist.series.kernel_messages import KernelMessageCollector
from dunmist.series.machine import MachineCollector
from dunmist.series.samples import ProcessCollector
from dunmist.series.sockets import SocketCollector
from dunmist.series.waiting_calls import CallCollector
from dunmist.tables import FORMS, TOPICS, fill
from tests.program import PROJECT, InFolder, maker

SOURCE = PROJECT / "src" / "dunmist"


def slots_by_key():
    """The slots that each key is given where it stands as a literal, by key."""
    slots = {}
    for room in ("diagnosis", "advice", "compare"):
        for file in (SOURCE / room).rglob("*.py"):
            for node in ast.walk(ast.parse(file.read_text())):
                if isinstance(node, ast.Call) and getattr(node.func, "id", "") == "figure":
                    key = node.args[0]
                    if isinstance(key, ast.Constant):
                        given = {keyword.arg for keyword in node.keywords}
                        slots.setdefault(key.value, []).append(given)
    return slots


class Evidence(unittest.TestCase):
    def test_every_key_is_declared_and_used(self):
        self.assertEqual(set(get_args(EvidenceKey)), set(declared_evidence()))
        code = "".join(
            file.read_text()
            for room in ("diagnosis", "advice", "compare")
            for file in (SOURCE / room).rglob("*.py")
            if file.name != "words.py"
        )
        for key in get_args(EvidenceKey):
            with self.subTest(key):
                self.assertIn(f'"{key}"', code)

    def test_a_key_is_given_just_its_slots(self):
        for key, given in slots_by_key().items():
            with self.subTest(key):
                for slots in given:
                    self.assertEqual(set(declared_evidence()[key].slots), slots)

    def test_every_sentence_uses_what_it_declares(self):
        for key, about in declared_evidence().items():
            named = {
                name
                for text in (about.text, about.source)
                for _, name, _, _ in string.Formatter().parse(text)
                if name
            }
            with self.subTest(key):
                unused = {"of"} if about.unit == "cores" else set()
                self.assertEqual(set(about.slots) - unused, named - {"amount"} - unused)

    def test_diagnosis_writes_no_sentence(self):
        for file in (SOURCE / "diagnosis").rglob("*.py"):
            tree = ast.parse(file.read_text())
            documented = {
                id(node.body[0].value)
                for node in ast.walk(tree)
                if isinstance(node, ast.Module | ast.FunctionDef | ast.ClassDef)
                and isinstance(node.body[0], ast.Expr)
            }
            for node in ast.walk(tree):
                is_text = isinstance(node, ast.Constant) and isinstance(node.value, str)
                if is_text and id(node) not in documented and " " in node.value:
                    # what is wrong in a user's own file is said where it is read; a quoted type
                    self.assertIn(file.name, ("__init__.py", "examination.py"), node.value)


class Tables(InFolder):
    def test_the_docs_list_what_the_tables_declare(self):
        make_views = maker("make_views")
        page = make_views.PAGE.read_text()
        self.assertEqual(make_views.renewed(page), page, "run 'make docs'")
        make_sources = maker("make_sources")
        page = make_sources.PAGE.read_text()
        self.assertEqual(make_sources.renewed(page), page, "run 'make docs'")

    def test_every_column_says_what_each_record_has(self):
        from dunmist.jobs.judge import judge

        judged = judge(self.sample)
        for table in [item for tables in (*TOPICS.values(), *FORMS.values()) for item in tables]:
            with self.subTest(table.name):
                rows = fill(table, judged).rows
                self.assertEqual(len(list(table.records(judged))), len(rows))
                for row in rows:
                    for name, cell in dict(row).items():
                        self.assertIsInstance(cell, (str, int, float, list, type(None)), name)
                self.assertLessEqual({*table.shown, *table.order}, set(table.names))
                self.assertEqual(len(table.names), len(set(table.names)))
                for column in table.columns:
                    self.assertTrue(column.meaning and column.heading)

    def test_topics_are_the_same_everywhere(self):
        from dunmist.cli.topics import PROCESS
        from dunmist.cli.topics import TOPICS as NAMES
        from dunmist.reports.pictures import PICTURES

        self.assertEqual(set(NAMES) - {PROCESS}, set(TOPICS))
        self.assertEqual({name for name in NAMES if NAMES[name].has_picture}, set(PICTURES))
        for topic, tables in TOPICS.items():
            with self.subTest(topic):
                forms = [table for form in FORMS.values() for table in form]
                shown = [*tables, *(forms if topic == "processes" else [])]
                filters = {
                    name for table in shown for column in table.columns for name in column.answers
                }
                self.assertEqual(filters, {*NAMES[topic].filters} - {"listening"})
                self.assertEqual(len(tables) > 1, NAMES[topic].has_tables)


# what they hold has its reasons where it is filled in
RECORDS_OF_RECORDS = ("Thresholds", "ResourceLimits", "KernelMessageLimits", "DiskKindLimits")


class Declared(unittest.TestCase):
    def test_each_field_of_a_tick_has_a_source_and_a_collector(self):
        own = {"n", "due_s", "at_s", "late", "took_s", "after_ms"}
        given = [field for source in SOURCES for field in source.fields]
        self.assertEqual(set(Tick.__struct_fields__) - own, set(given))
        taken = [
            field
            for item in (
                MachineCollector,
                DeviceCollector,
                ProcessCollector,
                SocketCollector,
                KernelMessageCollector,
                CodeCollector,
                FileCollector,
                CallCollector,
            )
            for field in item.fields
        ]
        self.assertEqual(sorted(set(given)), sorted(taken))
        subjects = [source.subject for source in SOURCES]
        self.assertEqual(len(subjects), len(set(subjects)))

    def test_each_threshold_is_typed_and_said(self):
        self.assertEqual({rule.finding for rule in TABLE}, set(thresholds().complaints))
        make_thresholds = maker("make_thresholds")
        for module in make_thresholds.MODULES.glob("*.py"):
            for name, _, rows in make_thresholds.rows_of(module):
                if name in RECORDS_OF_RECORDS:
                    continue
                for field, _, reason in rows:
                    self.assertTrue(reason, f"{name}.{field} has no reason")
        page = make_thresholds.PAGE.read_text()
        self.assertEqual(make_thresholds.page(), page, "run 'make docs'")

    def test_each_class_of_complaint_can_speak(self):
        self.assertEqual(set(KERNEL_MESSAGE_KINDS), set(EVIDENCE_OF))
        counted = {kind for rule in TABLE for kind in rule.complaints}
        # who asked for memory is told with who was ended, firmware complains on every computer, and
        # what is plugged in is a change
        uncounted = {"memory-asked-for", "firmware", "device-came"}
        self.assertEqual(uncounted, set(KERNEL_MESSAGE_KINDS) - counted)

    def test_each_kind_of_finding_has_a_rule(self):
        # a comparison finds this one, not a rule
        self.assertEqual(set(KINDS) - {"cooling-worse"}, {kind for r in RULES for kind in r.kinds})

    def test_each_resource_is_declared_and_worded(self):
        words = [resource.word for resource in RESOURCES]
        self.assertEqual(set(get_args(ResourceWord)) - {"power"}, set(words))
        self.assertLessEqual(set(words), set(resource_words()))
        for item in RESOURCES:
            if item.cause_rank is not None and item.demand is not None:
                self.assertIsNotNone(resource_words()[item.word].drives)

    def test_each_verb_has_a_rule_a_step_and_a_word_for_the_owner(self):
        self.assertEqual(set(VERBS), set(VERB_RULES))
        acts = {step.get("act") for step in ladder()["step"].values()}
        # they mend nothing, and are asked for by options of their own
        self.assertEqual(set(VERBS) - {"alternate", "install-unit"}, acts - {None})
        for verb, rule in VERB_RULES.items():
            self.assertIn("{name}", rule.owner_text, verb)
        from dunmist.advice import Act, Target

        act = Act("pause", targets=[Target(9, 8, "nestcam-index", 1004)])
        self.assertIn("nestcam-index was paused", owner_text(act))
