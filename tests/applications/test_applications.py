"""Which processes belong together, and what they are called."""

import unittest

import msgspec

from dunmist.applications import Grouping, program_of
from dunmist.computer import ProcessFacts
from dunmist.sampling import Observer

SESSION = "/user.slice/user-1004.slice/session-2.scope"


def facts(pid, ppid, name, executable=None, command_line=(), cgroup=SESSION, **more):
    return ProcessFacts(
        pid=pid,
        start_clk=pid,
        ppid=ppid,
        session=1,
        name=name,
        cgroup=cgroup,
        executable=executable,
        command_line=list(command_line),
        **more,
    )


class Programs(unittest.TestCase):
    def test_an_interpreters_program_is_its_script(self):
        for name, executable, command_line, shown in (
            (
                "python3",
                "/usr/bin/python3.11",
                ["python3", "-u", "tern_census.py", "-v"],
                "tern_census.py",
            ),
            ("python3", "/usr/bin/python3.11", ["python3", "-m", "ring.log"], "ring.log"),
            ("python3", "/usr/bin/python3.11", ["python3", "-c", "while 1: pass"], "python3.11"),
            ("bash", "/bin/bash", ["bash", "-e", "/srv/tide.sh"], "tide.sh"),
            ("python3", "/usr/bin/python3.11", ["python3", "-", "terns"], "python3.11"),
            ("bash", "/bin/bash", ["bash", "/dev/fd/63"], "bash"),
            ("sh", "/bin/sh", ["sh", "/proc/self/fd/11", "x"], "sh"),
            ("java", "/usr/bin/java", ["java", "-Xmx1g", "-jar", "/opt/a/chart.jar"], "chart.jar"),
            ("nestcam-index-w", "/opt/bin/nestcam-index-worker", [], "nestcam-index-worker"),
            ("tern", "/opt/bin/tern (deleted)", [], "tern"),
            ("auk", None, [], "auk"),
        ):
            with self.subTest(command_line=command_line):
                self.assertEqual(
                    shown, program_of(facts(9, 1, name, executable, command_line)).name
                )

    def test_standard_input_names_a_program_where_it_is_a_file(self):
        for command_line, shown in (
            (["sh"], "tide.sh"),
            (["sh", "-s", "a", "b"], "tide.sh"),
            (["sh", "-"], "tide.sh"),
            (["sh", "/dev/stdin"], "tide.sh"),
            (["sh", "-c", "sleep 9"], "sh"),
            (["sh", "/srv/ebb.sh"], "ebb.sh"),
        ):
            item = msgspec.structs.replace(
                facts(9, 1, "sh", "/bin/sh", command_line), input="/srv/tide.sh"
            )
            with self.subTest(command_line=command_line):
                self.assertEqual(shown, program_of(item).name)


class Groups(unittest.TestCase):
    def group(self, processes, observer=None):
        """Return the names of applications with the numbers of their members' processes."""
        grouping = Grouping(observer)
        for identity, item in enumerate(processes):
            grouping.add(identity, item)
        grouping.order_by_parent()
        return {
            item.name: [processes[member].pid for member in item.members]
            for item in grouping.groups
        }

    FAMILY = (
        facts(1, 0, "init", "/sbin/init"),
        facts(20, 1, "bash", "/bin/bash", ["bash"]),
        facts(30, 20, "catalogue", "/opt/catalogue"),
        facts(31, 30, "catalogue", "/opt/catalogue"),
        facts(32, 30, "plates", "/opt/plates"),
        facts(33, 31, "plates", "/opt/plates"),
        facts(40, 20, "catalogue", "/opt/catalogue", cgroup="/system.slice/tern.service"),
        facts(41, 40, "plates", "/opt/plates", cgroup="/system.slice/tern.service"),
        facts(50, 2, "kworker/0:1-events", kernel=True),
        facts(51, 2, "kworker/1:9", kernel=True),
    )

    def test_same_program_under_the_same_ancestor_or_same_service(self):
        groups = self.group(self.FAMILY)
        self.assertEqual(
            {
                "init": [1],
                "bash": [20],
                "catalogue": [30, 31],
                "plates": [32, 33],
                "tern": [40, 41],
                "kernel task kworker": [50, 51],
            },
            groups,
        )

    def test_the_order_in_which_processes_are_listed_is_irrelevant(self):
        groups = self.group(self.FAMILY)
        backwards = {name: sorted(pids) for name, pids in self.group(self.FAMILY[::-1]).items()}
        self.assertEqual(groups, backwards)

    def test_the_sampler_is_an_application_of_its_own(self):
        grouping = Grouping(Observer(30, 30))
        for identity, item in enumerate(self.FAMILY):
            grouping.add(identity, item)
        own = [group for group in grouping.groups if group.observer]
        self.assertEqual([[2]], [item.members for item in own])
