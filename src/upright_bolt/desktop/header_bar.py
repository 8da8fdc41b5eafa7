"""The strip on top: machine, power source, what is in force, and whether a trial is running."""

from collections.abc import Sequence

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QMenu, QWidget

from upright_bolt.desktop.machine_button import MachineButton
from upright_bolt.desktop.widgets.basic import Elided, button, label
from upright_bolt.model.quantity import clock_text
from upright_bolt.model.settings import show_settings
from upright_bolt.presentation.presenter import Presenter
from upright_bolt.text.enforcement import in_force_words
from upright_bolt.text.trials import capped, drift, drifts_in_short, trial_ends

HEIGHT = 46


class TopStrip(QWidget):
    """Always in sight.

    Signals:
        source_clicked: a twin's charger is to be plugged in or out.
        new_profile_wanted: what is being tried is to be kept in a profile that is not there yet.
    """

    source_clicked = pyqtSignal()
    new_profile_wanted = pyqtSignal()

    def __init__(self, presenter: Presenter, recent: Sequence[str] = ()) -> None:
        super().__init__()
        self._presenter = presenter
        self._offered: list[str] | None = None
        self.setProperty("role", "strip")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(HEIGHT)
        outline = presenter.outline
        cores, threads = outline.identity.cores or "?", outline.identity.threads or "?"
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 5, 14, 5)
        layout.setSpacing(10)
        self.machine = MachineButton(outline.identity.name, outline.spec, recent)
        layout.addWidget(self.machine)
        layout.addWidget(Elided(f"{outline.described}, {cores} cores / {threads} threads", "muted"))
        layout.addSpacing(12)
        self.source = button("")
        self.source.setVisible(outline.can_plug)
        self.source.setToolTip("Plug this twin's charger in or out; its firmware reacts")
        self.source.clicked.connect(self.source_clicked)
        self._source_words = label("")
        layout.addWidget(self._source_words)
        layout.addWidget(self.source)
        self._force = Elided("", "muted")
        layout.addWidget(self._force, 1)
        self._banner = QFrame()
        self._banner.setProperty("role", "notice")
        row = QHBoxLayout(self._banner)
        row.setContentsMargins(10, 2, 4, 2)
        self._trial = label("", "strong")
        self.revert = button("Put back")
        self.keep = button("Keep until restart", "main")
        self.keep_in = button("Keep in profile")
        self.keep_in.setToolTip("Save what is being tried in a profile, put that in force, and hold it")
        self.keep_in.setMenu(QMenu(self.keep_in))
        self.revert.clicked.connect(presenter.revert)
        self.keep.clicked.connect(presenter.keep)
        for widget in (self._trial, self.revert, self.keep, self.keep_in):
            row.addWidget(widget)
        self._banner.hide()
        layout.addWidget(self._banner)
        presenter.settings_changed.connect(lambda _: self.show_state())
        presenter.profiles.changed.connect(lambda _: self.show_state())
        presenter.live.connect(lambda _: self._show_live())

    def show_state(self) -> None:
        """Show what is."""
        presenter = self._presenter
        self._show_live()
        trial = presenter.status.trial
        self._banner.setVisible(trial is not None)
        for widget in (self.revert, self.keep, self.keep_in):
            widget.setVisible(not presenter.busy)
        self._offer_profiles()
        if trial is not None:
            ends = trial_ends(presenter.status)
            self._trial.setToolTip(f"{show_settings(trial.settings)}. Begun by {trial.by}; it ends with {ends}.")
            self._force.setText("Trying " + show_settings(trial.settings))
        elif presenter.profiles.status.active:
            self._force.setText(in_force_words(presenter.profiles.status))
        elif presenter.status.kept:
            self._force.setText("Kept: " + show_settings(presenter.status.kept))
        else:
            settable = any(control.settable for control in presenter.controls.values())
            self._force.setText("Stock settings" if settable else "Nothing can be set here")
        status = presenter.status
        self._force.setText(f"{self._force.text()}  {drifts_in_short(status)}".rstrip())
        self._force.explain("\n".join([*(drift(entry, status) for entry in status.drift), *capped(status)]))

    def _offer_profiles(self) -> None:
        """Offer every profile, and a new one, as the place for what is being tried."""
        names = [view.profile.name for view in self._presenter.profiles.status.profiles]
        menu = self.keep_in.menu()
        if menu is None or names == self._offered:
            return
        self._offered = names
        menu.clear()
        for name in names:
            action = QAction(f"Into {name}", menu)
            action.triggered.connect(lambda _checked, name=name: self._presenter.keep_in_profile(name, into=True))
            menu.addAction(action)
        if names:
            menu.addSeparator()
        new = QAction("Into a new profile…", menu)
        new.triggered.connect(self.new_profile_wanted)
        menu.addAction(new)

    def _show_live(self) -> None:
        """Show the power source, and for how long a trial has been running."""
        presenter = self._presenter
        charger = presenter.on_charger
        source = {None: "", True: "On charger", False: "On battery"}[charger]
        self._source_words.setText(source)
        self.source.setText("Unplug" if charger else "Plug in")
        if presenter.status.trial is not None:
            self._trial.setText(f"△ Trial running {clock_text(presenter.trial_age_s())}")
