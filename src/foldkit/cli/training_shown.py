"""What a training reports, shown as it comes: a bar with the loss, speed and time to go, and a line for what stays."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rich.progress import Progress

    from foldkit.training import Checked, Skipped, Started, Stepped, TrainEvent


class TrainingShown:
    """A listener of one training, or of one after another, that shows them in a progress bar."""

    def __init__(self, progress: Progress) -> None:
        from foldkit.curves import Alarm

        self.progress, self.alarm = progress, Alarm()
        self.task = progress.add_task("opening the base", total=None)

    def hear(self, event: TrainEvent) -> None:
        """Show an event."""
        from foldkit.training import Checked, Checking, Noted, Preparing, Skipped, Started, Stepped

        match event:
            case Noted(says):
                self._say(f"! {says}")
            case Preparing(what, n_done, n_rows):
                self._is_at(f"{what}, {n_done / n_rows:.0%} of it")
            case Started():
                self._started(event)
            case Stepped():
                self._stepped(event)
            case Checking(_, n_done, n_passes):
                self._is_at(f"validation, {n_done / n_passes:.0%} of it")
            case Skipped():
                self._skipped(event)
            case Checked():
                self._checked(event)

    def _say(self, line: str) -> None:
        self.progress.console.print(line)

    def _is_at(self, what: str) -> None:
        self.progress.update(self.task, description=what)

    def _started(self, event: Started) -> None:
        from foldkit.curves import Alarm

        self.alarm, total = Alarm(), event.n_trainable + event.n_base
        self.progress.update(self.task, total=event.n_steps, completed=event.step, description="the first step")
        going_on = f", {event.step} of them made before" if event.step else ""
        self._say(
            f"{event.n_train:,} rows, {event.n_steps:,} steps{going_on}; {event.n_trainable:,} trainable numbers "
            f"({event.trainable_bytes / 1e6:.1f} MB), {event.n_trainable / total:.1%} of {total:,} in all"
        )

    def _stepped(self, event: Stepped) -> None:
        from foldkit.runs import clock

        self.alarm.hear(event.step, event.loss)
        speed, to_go = f"{event.tokens_per_second:,.0f} tokens/s", clock(event.to_go)
        said = f"loss {event.smoothed_loss:.3f}  {speed}  {to_go} to go"
        self.progress.update(self.task, completed=event.step, description=said)

    def _skipped(self, event: Skipped) -> None:
        rows = ", ".join(map(str, event.rows))
        self._say(f"! step {event.step} skipped: {event.reason}; rows {rows}")

    def _checked(self, event: Checked) -> None:
        best = "  best so far" if event.best else ""
        self._say(
            f"step {event.step:>5}  validation loss {event.validation_loss:.4f}  "
            f"token accuracy {event.validation_accuracy:.3f}  {event.seconds:>5.0f} s{best}"
        )
        if rung := self.alarm.rings():
            self._say(f"! so far, {rung}")
