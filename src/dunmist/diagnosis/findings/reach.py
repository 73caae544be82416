"""Findings about the way to other networks: gateways that stay silent, and weak radio."""

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.findings.rules import finds
from dunmist.diagnosis.records import EvidenceFigure, Finding, figure
from dunmist.diagnosis.strained_resources import StrainedResources
from dunmist.diagnosis.words import Severity
from dunmist.series import signal_dbm


@finds("gateway-silent")
def _gateways(exam: Examination) -> list[Finding]:
    """A gateway that was asked and does not answer; grave only where no other one does."""
    gateways = exam.series.surveyed.gateways
    others = [gateway.address for gateway in gateways if gateway.state == "answers"]
    severity: Severity = "note" if others else "urgent"
    findings = []
    for gateway in gateways:
        if gateway.state == "silent":
            evidence = [figure("gateway-silent", 1.0, name=gateway.link, address=gateway.address)]
            evidence += (
                [figure("gateway-other", float(len(others)), which=others)] if others else []
            )
            findings.append(Finding("gateway-silent", severity, gateway.address, evidence))
    return findings


@finds("radio-weak")
def _radio(exam: Examination, strained: StrainedResources) -> list[Finding]:
    """A wireless link whose signal is weak; grave where it is full of work."""
    findings, radio = [], exam.series.surveyed.radio
    for link in exam.series.devices.outward_links:
        station = radio.get(link.name)
        signal = signal_dbm(link, radio)
        if not signal or signal > exam.limits.findings.radio_weak_dbm:
            continue
        evidence: list[EvidenceFigure] = [figure("radio-signal", float(signal), name=link.name)]
        if station and station.send_bits_per_s:
            evidence.append(figure("radio-rate", float(station.send_bits_per_s)))
        if station and station.sent_frames and station.retried_frames is not None:
            retried = station.retried_frames / station.sent_frames
            evidence.append(figure("radio-retried", min(1.0, retried)))
        is_busy = any(state.name == link.name for state in strained.of("link"))
        findings.append(
            Finding("radio-weak", "concern" if is_busy else "note", link.name, evidence)
        )
    return findings
