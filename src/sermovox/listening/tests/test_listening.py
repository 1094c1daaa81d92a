"""The listening desk: what lies on it, that all of it is in step and equally loud, and what listeners answered."""

import json

import numpy as np

from mastering.comparing import RATE_HZ
from mastering.outlets.rulesheets import shipped
from mastering.tests.signals import speech
from sermovox.deliveries.models import FinishedFile
from sermovox.deliveries.runs import start_run
from sermovox.listening.models import Answer, Trial
from sermovox.outlets.models import outlets_of
from sermovox.productions.models import Production
from sermovox.ui.tests.base import AppTestCase

RETAIL, LOAN = "audiobook-retail", "loan-player"


class Desk(AppTestCase):
    def prepare(self):
        super().prepare()
        self.production.outlet_keys = [RETAIL, "volunteer-archive", LOAN]
        self.production.save()
        self.section = self.bring_in(speech(seconds=8))
        start_run(self.production, [shipped()[RETAIL], shipped()[LOAN]], [self.section])
        self.work()
        self.address = f"/listening/sections/{self.section.pk}/"

    def sound(self, **asked) -> tuple[dict, dict[str, np.ndarray]]:
        """What is said of the versions, and their samples, shape (channels, frames), by their keys."""
        data = self.client.get(f"{self.address}sound/", {"outlet": RETAIL, "start": 2, "length": 3} | asked).content
        head, _, samples = data.partition(b"\n")
        told = json.loads(head)
        shape = (len(told["versions"]), told["channels"], told["frames"])
        found = np.frombuffer(samples, "<f4").reshape(shape)
        return told, {each["key"]: samples for each, samples in zip(told["versions"], found, strict=True)}

    def attempt(self, kbps) -> str:
        page = self.client.post(f"{self.address}try/", {"outlet": RETAIL, "kbps": kbps}, follow=True)
        return page.content.decode()

    def test_recording_files_and_trials_are_in_step_and_equally_loud(self):
        self.attempt(192)
        self.attempt(32)
        told, found = self.sound()
        keys = [each["key"] for each in told["versions"]]
        files = {file.delivery.outlet_key: f"file-{file.pk}" for file in FinishedFile.objects.all()}
        trials = {trial.kbps: f"trial-{trial.pk}" for trial in Trial.objects.all()}
        self.assertEqual(set(keys), {"planned", "recorded", *files.values(), *trials.values()})
        self.assertEqual(told["frames"], 3 * RATE_HZ)
        loud = {each["key"]: found[each["key"]] * 10 ** (each["gain_db"] / 20) for each in told["versions"]}
        first = loud["planned"][0].astype(np.float64)
        for key, samples in loud.items():
            with self.subTest(key=key):
                own = samples[0].astype(np.float64)
                spectra = np.fft.rfft(own, 2 * len(own)) * np.conj(np.fft.rfft(first, 2 * len(own)))
                found_at = int(np.argmax(np.fft.irfft(spectra)))
                later = found_at if found_at < len(own) else found_at - 2 * len(own)
                self.assertLessEqual(abs(later), 2)
                level_db = 10 * np.log10((own**2).mean() / (first**2).mean())
                self.assertLess(abs(level_db), 0.6)
        # What is encoded at 32 kbit/s is heard as that.
        apart = {kbps: np.abs(loud[key] - loud["planned"]).mean() for kbps, key in trials.items()}
        self.assertGreater(apart[32], 3 * apart[192])

    def test_a_file_that_begins_later_is_heard_together_with_the_others(self):
        file = FinishedFile.objects.get(delivery__outlet_key=RETAIL)
        FinishedFile.objects.filter(pk=file.pk).update(later_s=file.later_s - 0.010)
        told, found = self.sound()
        later = {each["key"]: each["later_s"] for each in told["versions"]}
        self.assertAlmostEqual(later[f"file-{file.pk}"], 0.010, delta=0.001)
        apart = np.abs(found[f"file-{file.pk}"] - found["planned"]).mean() / np.abs(found["planned"]).mean()
        self.assertLess(apart, 0.1)

    def test_a_bitrate_the_format_does_not_have_is_said_with_the_nearest(self):
        self.assertIn("the nearest is 96 kbit/s", self.attempt(100))
        self.assertIn("whole number", self.attempt("many"))
        self.assertFalse(Trial.objects.exists())
        self.attempt(64)
        self.assertIn("64 kbit/s, tried for", self.attempt(64))
        self.assertEqual(Trial.objects.count(), 1)
        self.client.post(f"/listening/trials/{Trial.objects.get().pk}/away/", {"section": self.section.pk})
        self.assertFalse(Trial.objects.exists())

    def test_nothing_is_delivered_by_trying(self):
        before = list(FinishedFile.objects.values_list("pk", "sha256"))
        self.attempt(64)
        self.sound()
        self.assertEqual(list(FinishedFile.objects.values_list("pk", "sha256")), before)

    def test_answers_are_kept_with_the_production_and_held_against_guessing(self):
        self.attempt(32)
        version = f"trial-{Trial.objects.get().pk}"
        for right in ("yes", "yes", "no", *["yes"] * 7):
            told = self.client.post(
                f"{self.address}answer/", {"outlet": RETAIL, "version": version, "against": "planned", "right": right}
            ).json()
        # 11 of 1024 ways to answer ten rounds have nine right or more.
        self.assertEqual(told["said"], "9 of 10 rounds right, 1.1 % by guessing: told apart")
        self.assertContains(self.client.get(f"{self.address}?outlet={RETAIL}"), told["said"])
        self.assertEqual({answer.by for answer in Answer.objects.all()}, {self.narrator})
        again = self.client.post(
            f"{self.address}answer/", {"outlet": RETAIL, "version": version, "against": version, "right": "yes"}
        )
        self.assertEqual(again.status_code, 400)
        from_recorded = {"outlet": RETAIL, "version": version, "against": "recorded", "right": "yes"}
        told = self.client.post(f"{self.address}answer/", from_recorded).json()["said"]
        self.assertIn("1 of 1 rounds right, 50.0 % by guessing: not told apart, from As recorded", told)
        self.client.post(f"{self.address}answer/", from_recorded | {"do": "back"})
        back = {"outlet": RETAIL, "version": version, "against": "planned", "do": "back"}
        self.assertIn("8 of 9 rounds right", self.client.post(f"{self.address}answer/", back).json()["said"])
        self.client.post(f"{self.address}answer/", back | {"do": "", "right": "yes"})
        # They outlive what was compared, and go with the production.
        self.client.post(f"/listening/trials/{Trial.objects.get().pk}/away/", {"section": self.section.pk})
        self.assertEqual(Answer.objects.count(), 10)
        Production.objects.all().delete()
        self.assertFalse(Answer.objects.exists())

    def test_a_bitrate_that_was_tried_is_taken_into_the_outlet_s_sheet(self):
        self.client.post(f"{self.address}ask/96/", {"outlet": RETAIL})
        rule = outlets_of(self.narrator)[RETAIL].rule("bit_rate_kbps")
        self.assertEqual([demand.first for demand in rule.demands.values()], [96])
        page = self.client.post(f"{self.address}ask/97/", {"outlet": RETAIL}, follow=True)
        self.assertIn("the nearest is 96 kbit/s", str(list(page.context["messages"])[-1]))

    def test_what_cannot_be_compared_is_said(self):
        empty = self.production.add_section(title="Nothing yet")
        self.assertContains(self.client.get(f"/listening/sections/{empty.pk}/"), "has no recording yet")
        refused = self.client.get(f"/listening/sections/{empty.pk}/sound/?outlet={RETAIL}")
        self.assertEqual(refused.status_code, 400)
        self.production.outlet_keys = [LOAN]
        self.production.save()
        self.assertContains(self.client.get(self.address), "takes all sections in one file")
        self.assertEqual(self.client.get(f"{self.address}sound/").status_code, 400)
        for odd in ({"start": "nan"}, {"start": "1e400", "length": "-3"}, {"start": "x", "length": "inf"}):
            told, _ = self.sound(**odd)
            self.assertGreater(told["frames"], 0)
        self.client.logout()
        self.assertNotEqual(self.client.get(f"{self.address}sound/").status_code, 200)
