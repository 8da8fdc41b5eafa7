"""The Profiles view: profiles side by side, rules as sentences, and what the hold has done."""

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QFileDialog, QFrame, QHBoxLayout, QVBoxLayout, QWidget

from upright_bolt.desktop.profiles.dialogs import NameDialog, TextDialog
from upright_bolt.desktop.profiles.table import ProfileTable
from upright_bolt.desktop.widgets.basic import Bounded, Elided, button, column, heading, label, rule
from upright_bolt.desktop.widgets.theme import Theme
from upright_bolt.model.hold import EnforcementStatus, RuleView
from upright_bolt.model.settings import show_settings
from upright_bolt.model.start import Start
from upright_bolt.presentation.presenter import Presenter
from upright_bolt.presentation.run_starter import RunRequest
from upright_bolt.text.enforcement import entry_words, held_words, resting_words, standing_words
from upright_bolt.text.rules import ACCEPTED
from upright_bolt.text.times import day_and_time

FOOT_PX = 200
LOG_LINES = 12
RULES_HELP = (
    "A sentence a line; the first whose conditions all hold counts. “When CONDITION and CONDITION, use PROFILE.”, and "
    f"at the end “Otherwise, use PROFILE.” Conditions: {ACCEPTED}."
)
LEAD = "Measure stock, then save what is in force as your first profile."
NOTHING = "Nothing can be set on this machine, so a profile could keep nothing. The Machine view says why."
NO_RULES = (
    "No rules: the profile that you use stays in force. With rules, the charger, a program or the vendor's mode key "
    "chooses it."
)
FILE_HELP = (
    "The profile's file. Keys carry their unit (sustained_w, core_offset_mv). What speaks for a setting is written by "
    "the program, from runs; your comments stay."
)


class ProfilesView(QWidget):
    """Everything about profiles.

    Signals:
        measuring: the person wants to see how a measurement goes on.
    """

    measuring = pyqtSignal()

    def __init__(self, presenter: Presenter, theme: Theme) -> None:
        super().__init__()
        self._presenter = presenter
        self._profiles = presenter.profiles
        layout = column(self, margins=(16, 10, 14, 6), gap=8)
        layout.addLayout(self._top())
        self.notice = label("", wraps=True)
        self._notice_frame = QFrame()
        self._notice_frame.setProperty("role", "notice")
        column(self._notice_frame, margins=(10, 5, 10, 5)).addWidget(self.notice)
        layout.addWidget(self._notice_frame)
        self.empty = self._empty()
        layout.addWidget(self.empty)
        self.table = ProfileTable(theme)
        self.table.used.connect(self._profiles.use)
        self.table.measured.connect(self._measure)
        self.table.asked.connect(self._asked)
        layout.addWidget(self.table, 100)
        layout.addWidget(rule())
        layout.addLayout(self._foot())
        layout.addStretch(1)
        self._profiles.changed.connect(lambda _: self._follow())
        presenter.runs.changed.connect(lambda _: self._follow())
        presenter.settings_changed.connect(lambda _: self._follow())
        presenter.drafted.connect(lambda _: self.save_draft.setVisible(bool(presenter.draft)))
        self.show_state()

    def _top(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(8)
        self.standing = Elided("", "title")
        row.addWidget(self.standing, 1)
        self.hold = button("")
        self.hold.setToolTip("Keep the profile in force and follow the rules: what is changed behind it is put back")
        self.hold.clicked.connect(lambda: self._profiles.set_hold(on=not self._profiles.status.hold))
        self.boot = button("")
        self.boot.clicked.connect(lambda: self._profiles.set_boot(on=not self._profiles.status.boot))
        self.save = button("Save what is in force…")
        self.save.clicked.connect(self.ask_name)
        self.save_draft = button("Save the draft…")
        self.save_draft.setToolTip("As a profile, untried: what has to be proven is held back until it is")
        self.save_draft.clicked.connect(self._ask_draft_name)
        for widget in (self.hold, self.boot, self.save_draft, self.save):
            row.addWidget(widget)
        return row

    def _empty(self) -> QFrame:
        made = QFrame()
        made.setProperty("role", "note")
        layout = column(made, margins=(16, 12, 16, 12), gap=8)
        self._lead = label("", "strong", wraps=True)
        layout.addWidget(self._lead)
        words = (
            "A profile is a named set of settings with what speaks for each. Once there are two, rules choose between "
            "them: one on the charger, one on battery. What is changed behind your back is put back."
        )
        layout.addWidget(label(words, "muted", wraps=True))
        row = QHBoxLayout()
        self.first = button("Measure stock: 10 min, rested", "main")
        self.first.clicked.connect(self._measure_stock)
        self._second = button("Save what is in force…")
        self._second.clicked.connect(self.ask_name)
        row.addWidget(self.first)
        row.addWidget(self._second)
        row.addStretch()
        layout.addLayout(row)
        return made

    def _foot(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(18)
        rules = QVBoxLayout()
        rules.setSpacing(4)
        top = QHBoxLayout()
        top.addWidget(heading("Rules"))
        top.addStretch()
        self.edit_rules = button("Edit rules…")
        self.edit_rules.clicked.connect(self.ask_rules)
        top.addWidget(self.edit_rules)
        rules.addLayout(top)
        self.rules = label("", wraps=True)
        rules.addWidget(Bounded(self.rules, FOOT_PX, 40))
        rules.addStretch()
        log = QVBoxLayout()
        log.setSpacing(4)
        log.addWidget(heading("What the hold has done"))
        self.log = label("", "muted", wraps=True)
        log.addWidget(Bounded(self.log, FOOT_PX, 40))
        log.addStretch()
        row.addLayout(rules, 1)
        row.addLayout(log, 1)
        return row

    def showEvent(self, event: QShowEvent | None) -> None:
        """Show what is, as of now."""
        super().showEvent(event)
        self.show_state()

    def _follow(self) -> None:
        """Show what is, while the view is in sight: what profiles measured is looked for among all runs."""
        if self.isVisible():
            self.show_state()

    def show_state(self) -> None:
        """Show what is."""
        status, presenter = self._profiles.status, self._presenter
        shown = self._profiles.shown(presenter.controls, presenter.runs.all)
        busy = presenter.progress is not None or bool(presenter.busy)
        self.empty.setVisible(not status.profiles)
        settable = any(control.settable for control in presenter.controls.values())
        self._lead.setText(LEAD if settable else NOTHING)
        for widget in (self.first, self._second, self.save):
            widget.setVisible(settable)
        self.save_draft.setVisible(bool(presenter.draft))
        self.table.setVisible(bool(status.profiles))
        self.table.show_profiles(shown, presenter.controls, self._profiles.measures, busy=busy)
        self.standing.setText(standing_words(status))
        self.hold.setText("● Hold is on" if status.hold else "○ Hold is off")
        self.boot.setText("● After a start as well" if status.boot else "○ Not after a start")
        self.boot.setToolTip(_at_boot(status))
        self._show_notice(status)
        self.rules.setText(_rules_text(status))
        self.rules.setToolTip("\n".join(f"{each.sentence} It {each.why}." for each in status.rules))
        lines = [f"{day_and_time(entry.at)}  {entry_words(entry)}" for entry in reversed(self._profiles.entries)]
        self.log.setText("\n".join(lines[:LOG_LINES]) or "Nothing has been put in force or put back yet.")

    def _show_notice(self, status: EnforcementStatus) -> None:
        said = [f"{held_words(held)}." for held in status.held_back]
        said += [resting_words(one) for one in status.resting]
        said += [f"{file} is left out: {why}" for file, why in status.broken.items()]
        if status.rules_broken:
            said.append(f"The rules cannot be used: {status.rules_broken}")
        if status.suspects and not status.held_back:
            said.append(f"Nothing risky is put in force until you use a profile: {status.suspects}.")
        self.notice.setText("\n".join(said[:5]))
        self._notice_frame.setVisible(bool(said))

    # what a person asks for

    def _measure_stock(self) -> None:
        self._presenter.start_asked(RunRequest("steady", "10 min", "Stock, rested", start=Start.RESTED))
        self.measuring.emit()

    def _measure(self, shown: object) -> None:
        self._profiles.measure(shown, on_battery=self._presenter.on_charger is False)  # type: ignore[arg-type]

    def ask_name(self) -> None:
        """Ask for the name under which what is in force is saved."""
        NameDialog(
            self, "Save…", "What is in force is saved under this name, put in force as a profile, and held.",
            self._presenter.keep_in_profile, noted=True,
        ).show()  # fmt: skip

    def _ask_draft_name(self) -> None:
        draft = dict(self._presenter.draft)
        NameDialog(
            self, "Save…", f"The draft ({show_settings(draft)}) is saved under this name, with what is "
            "in force besides. It is not put in force, and what has to be proven is held back until it is.",
            partial(self._profiles.save_draft, draft), noted=True,
        ).show()  # fmt: skip

    def ask_rules(self) -> None:
        """Let the rules be edited."""
        text = self._profiles.status.rules_text
        TextDialog(self, "Rules", RULES_HELP, text, self._profiles.save_rules).show()

    def _asked(self, what: str, name: str) -> None:
        acts: dict[str, Callable[[str], None]] = {
            "edit": self._edit, "try": self._presenter.try_profile, "copy": self._copy, "rename": self._rename,
            "export": self._export, "delete": self._profiles.delete, "offsets": self._profiles.copy_offsets,
            "graphics": self._profiles.copy_graphics,
        }  # fmt: skip
        acts[what](name)

    def _edit(self, name: str) -> None:
        def opened(text: str) -> None:
            TextDialog(
                self, f"Profile {name}", FILE_HELP, text,
                lambda new, saved, refused: self._profiles.save_text(name, new, saved, refused),
            ).show()  # fmt: skip

        self._profiles.read_text(name, opened)

    def _copy(self, name: str) -> None:
        words = f"A copy of {name}, with its note and what speaks for its settings."
        NameDialog(self, "Copy…", words, lambda new, _: self._profiles.copy(name, new)).show()

    def _rename(self, name: str) -> None:
        words = f"Another name for {name}. One that is in force, or that a rule names, keeps its name."
        NameDialog(self, "Rename…", words, lambda new, _: self._profiles.rename(name, new), name=name).show()

    def _export(self, name: str) -> None:
        path, _ = QFileDialog.getSaveFileName(self, f"Save {name}", f"{name}.toml", "Profiles (*.toml)")
        if path:
            self._profiles.export(name, path)


def _rules_text(status: EnforcementStatus) -> str:
    return "\n".join(map(_rule_line, status.rules)) or NO_RULES


def _rule_line(shown: RuleView) -> str:
    return f"▶ {shown.sentence} (counts now)" if shown.counts else f"    {shown.sentence}"


def _at_boot(status: EnforcementStatus) -> str:
    """Return what would be put in force after a start, item by item."""
    view = next((v for v in status.profiles if v.profile.name == status.at_boot), None)
    if not status.boot or not status.at_boot:
        return "Put the profile in force after the machine's start: proven voltages only"
    held = {one.name: one.why for one in view.held_back} if view is not None else {}
    items = [f"{name}: {held.get(name, 'in force')}" for name in (view.profile.settings if view is not None else ())]
    return "\n".join([f"After a start, as things stand now: {status.at_boot}", *items])
