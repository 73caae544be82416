"""Figures for other programs, read back by the parsers that those programs have."""

import csv
import io
import json
import threading
import unittest
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, HTTPServer

import numpy as np
import pandas as pd
import pyarrow.parquet
from google.protobuf.json_format import Parse
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from prometheus_client.openmetrics.parser import text_string_to_metric_families

from dunmist.exports.long_table import (
    COLUMNS,
    SCHEMA_VERSION,
    _column,
    csv_of,
    long_table,
    parquet_bytes,
)
from dunmist.exports.points import Metric
from dunmist.jobs.judge import judge
from tests.program import InFolder, run


@contextmanager
def receiver(answers):
    """A stand-in that takes what is posted, and answers with a status and a body."""
    taken = []

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self):
            body = self.rfile.read(int(self.headers["Content-Length"]))
            taken.append((self.path, self.headers["Content-Type"], body))
            status, answer = answers
            self.send_response(status)
            self.end_headers()
            self.wfile.write(answer)

        def log_message(self, *_):
            pass

    server = HTTPServer(("127.0.0.1", 0), Handler)
    thread = threading.Thread(target=server.serve_forever)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_port}/v1/metrics", taken
    finally:
        server.shutdown()
        thread.join()
        server.server_close()


class Exports(InFolder):
    def exported(self, name, *more):
        run("export", self.sample, "-o", name, *more, folder=self.folder)
        return (self.folder / name).read_bytes()

    def of_culprit(self):
        judged = judge(self.sample)
        main = judged.diagnosis.culprits[0].application.main
        return main, judged.series

    def test_open_metrics(self):
        text = self.exported("x.om").decode()
        families = {item.name: item for item in text_string_to_metric_families(text)}
        main, series = self.of_culprit()
        used = [
            sample.value
            for sample in families["process_cpu_utilization_ratio"].samples
            if sample.labels["process_pid"] == str(main.pid)
        ]
        self.assertAlmostEqual(main.cores.known_mean(), sum(used) / len(used))
        moved = [
            sample
            for sample in families["system_disk_io_bytes"].samples
            if sample.labels["disk_io_direction"] == "read"
        ]
        (disk,) = series.devices.physical_disks
        self.assertEqual("counter", families["system_disk_io_bytes"].type)
        self.assertAlmostEqual(disk.read_bytes_per_s.total(), moved[-1].value, delta=1.0)

    def test_otlp_is_what_its_schema_says(self):
        request = Parse(self.exported("x.otlp.json").decode(), ExportMetricsServiceRequest())
        (whole,) = request.resource_metrics
        words = {
            attribute.key: attribute.value.string_value for attribute in whole.resource.attributes
        }
        main, series = self.of_culprit()
        self.assertEqual(series.header.machine.host, words["host.name"])
        metrics = {metric.name: metric for metric in whole.scope_metrics[0].metrics}
        points = metrics["process.memory.usage"].gauge.data_points
        own = [
            point.as_double
            for point in points
            if any(
                word.key == "process.pid" and word.value.int_value == main.pid
                for word in point.attributes
            )
        ]
        self.assertEqual(main.rss_bytes.last(), own[-1])
        first_ns = min(point.time_unix_nano for point in points)
        began = pd.Timestamp(series.header.started).timestamp()
        self.assertAlmostEqual(began, first_ns / 1e9, delta=0.001)
        self.assertTrue(metrics["system.network.io"].sum.is_monotonic)

    def test_parquet_and_csv_say_the_same(self):
        self.exported("x.parquet")
        parquet = pyarrow.parquet.read_table(self.folder / "x.parquet").to_pandas()
        self.exported("x.csv")
        csv = pd.read_csv(self.folder / "x.csv")
        self.assertEqual(len(csv), len(parquet))
        self.assertAlmostEqual(csv["value"].sum(), parquet["value"].sum(), delta=1e-6)
        (self.folder / "tables").mkdir()
        run("export", self.sample, "-o", "tables", folder=self.folder)
        names = {path.stem for path in (self.folder / "tables").iterdir()}
        self.assertLessEqual({"series", "applications", "sockets", "levels"}, names)
        view = json.loads(
            run("view", "processes", self.sample, "--json", folder=self.folder).stdout
        )["applications"]
        table = pyarrow.parquet.read_table(self.folder / "tables/applications.parquet").to_pylist()
        for name in ("cores_mean", "unit"):
            self.assertEqual([row[name] for row in view], [row[name] for row in table])
        self.assertIn(None, [row["unit"] for row in table])

    def test_it_is_sent_and_what_is_refused_is_said(self):
        with receiver((200, b"{}")) as (address, taken):
            run("export", self.sample, "--to", address, "--share", folder=self.folder)
        ((path, kind, body),) = taken
        self.assertEqual(("/v1/metrics", "application/json"), (path, kind))
        Parse(body.decode(), ExportMetricsServiceRequest())
        self.assertNotIn(judge(self.sample).series.header.machine.host.encode(), body)
        for status, answer, wanted in (
            (503, b"", "answered 503"),
            (
                200,
                b'{"partialSuccess":{"rejectedDataPoints":"3","errorMessage":"too old"}}',
                "3 points were refused: too old",
            ),
        ):
            with self.subTest(status), receiver((status, answer)) as (address, _):
                self.assertIn(wanted, self.one_line("export", self.sample, "--to", address))
        self.assertIn("OTLP there", self.one_line("export", self.sample, "--to", address))
        self.assertIn(
            "invalid address", self.one_line("export", self.sample, "--to", "file:///x", status=2)
        )

    def test_an_ending_that_is_none(self):
        self.assertIn(".otlp.json", self.one_line("export", self.sample, "-o", "x.xml"))


class LongTable(unittest.TestCase):
    """A row a point; what stands in it is a figure or a text, and never a formula."""

    def metric(self, name="system.cpu.utilization", values=(0.25, 0.5), **attributes):
        at_ns = [1_936_598_400_000_000_000 + 1_500_000_000 * n for n in range(len(values))]
        return Metric(name, "1", "gauge", "about", attributes, at_ns, np.array(values), at_ns[0])

    def test_each_point_is_a_row_with_its_moment(self):
        table = long_table([self.metric(cpu=3), self.metric("hw.temperature", (61.0,), hw="x")])
        self.assertEqual(list(COLUMNS), list(table.columns))
        self.assertEqual([0.25, 0.5, 61.0], list(table["value"]))
        self.assertEqual(["cpu=3", "cpu=3", "hw=x"], list(table["attributes"]))
        self.assertEqual(1.5, (table["time"][1] - table["time"][0]).total_seconds())
        self.assertEqual("UTC", str(table["time"].dt.tz))

    def test_of_nothing_there_is_a_table_all_the_same(self):
        table = long_table([])
        self.assertEqual((list(COLUMNS), 0), (list(table.columns), len(table)))
        self.assertEqual(",".join(COLUMNS) + "\n", csv_of(table))

    def test_a_name_is_no_formula(self):
        for name in ("=1+1", "+1", "-1", "@x", "\t=1", "auk, the second", 'auk "x"'):
            table = long_table([self.metric(**{"process.executable.name": name})])
            (row, _) = csv.DictReader(io.StringIO(csv_of(table)))
            with self.subTest(name):
                self.assertTrue(row["attributes"].startswith("process.executable.name="))
                self.assertEqual("0.25", row["value"])
            bare = long_table([self.metric()]).assign(attributes=name)
            cell = next(csv.DictReader(io.StringIO(csv_of(bare))))["attributes"]
            self.assertFalse(cell.startswith(("=", "+", "-", "@", "\t")), cell)

    def test_a_file_says_which_form_it_has(self):
        data = parquet_bytes(long_table([self.metric(cpu=0)]))
        read = pyarrow.parquet.read_table(io.BytesIO(data))
        self.assertEqual(SCHEMA_VERSION, read.schema.metadata[b"dunmist_schema"].decode())
        self.assertEqual([0.25, 0.5], read["value"].to_pylist())
        self.assertTrue(str(read.schema.field("time").type).startswith("timestamp"))

    def test_a_column_has_one_type(self):
        for cells, wanted in (
            ([True, None, False], "boolean"),
            ([1, 2.5, None], "float64"),
            ([1, "auk"], "object"),
            # a flag is no figure
            ([[1.0], None, [2.0, 3.0]], "object"),
            ([True, 1], "object"),
            ([True, 2.0], "object"),
        ):
            with self.subTest(cells=cells):
                self.assertEqual(wanted, str(_column(cells).dtype))
        self.assertEqual([None, "3"], list(_column([None, 3, "auk"]))[:2])
