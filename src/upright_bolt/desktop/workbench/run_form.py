"""What a person chooses of a run before it begins."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QLineEdit, QWidget

from upright_bolt.desktop.widgets.basic import column
from upright_bolt.model.start import STARTS, Start
from upright_bolt.model.work import NO_CHIP, WEIGHTS
from upright_bolt.model.workloads import WORKLOADS, Mode
from upright_bolt.presentation.presenter import Presenter
from upright_bolt.presentation.run_starter import RunRequest
from upright_bolt.sanitize import capital, small
from upright_bolt.text.graphics import told_apart

LENGTHS = ("10 min", "3 min", "1 min", "30 min")
REPEATS = (1, 3, 5, 10)
UNTIL_DECIDED = 0
SCENES = {"light": "light scene", "heavy": "heavy scene", "steps": "steps between both and none"}
PACES = (("as in life", 1.0), ("10 × faster", 10.0), ("60 × faster", 60.0), ("300 × faster", 300.0))


class RunForm(QWidget):
    """Workload, length, start, how often, and what single workloads take besides."""

    def __init__(self, presenter: Presenter) -> None:
        super().__init__()
        self.workload = QComboBox()
        self.workload.setAccessibleName("Workload")
        for name, known in WORKLOADS.items():
            self.workload.addItem(f"{capital(name)}: {small(known.purpose.split(':')[0])}", name)
            self.workload.setItemData(self.workload.count() - 1, known.purpose, Qt.ItemDataRole.ToolTipRole)
        self.length = QComboBox()
        self.length.setEditable(True)
        self.length.addItems(LENGTHS)
        self.length.setAccessibleName("Length")
        self.pace = QComboBox()
        self.pace.setAccessibleName("Twin's time")
        for words, pace in PACES:
            self.pace.addItem(words, pace)
        self.pace.setVisible(presenter.outline.has_pace)
        self.pace.setToolTip("How fast this twin's time runs")
        self.pace.currentIndexChanged.connect(lambda _: presenter.set_pace(self.pace.currentData()))
        self.begins = QComboBox()
        self.begins.setAccessibleName("Start")
        for start, words in STARTS.items():
            self.begins.addItem(capital(words.partition(":")[0]), start)
            self.begins.setItemData(self.begins.count() - 1, capital(words), Qt.ItemDataRole.ToolTipRole)
        self.times = QComboBox()
        self.times.setAccessibleName("How often")
        for count in REPEATS:
            self.times.addItem("once" if count == 1 else f"{count} times", count)
        self.times.addItem("until decided", UNTIL_DECIDED)
        self.times.setItemData(self.times.count() - 1, "With the draft and without it in turn, until the difference "
                               "in score is decided: 4 to 10 runs of each", Qt.ItemDataRole.ToolTipRole)  # fmt: skip
        self.times.setToolTip("Several runs of one setting tell its spread")
        self.threads = _entry("threads", "Threads")
        self.threads.setToolTip("How many processors to keep busy; as many as this workload usually does if empty")
        self.below = _entry("Stay below, e.g. 85 °C", "Stay below")
        self.sure = QCheckBox("six minutes, to be sure")
        self.chip, self.weight = chip_choice(presenter), _scenes()
        self.command = _entry("Command, e.g. make chart", "Command")
        self.pattern = _entry("Pattern of its score, or none", "Pattern of its score")
        self.label = _entry("Name of the run", "Name of the run")
        self._arrange()
        self.workload.currentIndexChanged.connect(lambda _: self._workload_chosen())
        self._workload_chosen()

    def _arrange(self) -> None:
        layout = column(self, margins=(0, 0, 0, 0), gap=7)
        layout.addWidget(self.workload)
        for pair in ((self.length, self.pace), (self.begins, self.times)):
            row = QHBoxLayout()
            row.setSpacing(6)
            for choice in pair:
                choice.setMinimumContentsLength(4)
                row.addWidget(choice, 1)
            layout.addLayout(row)
        for widget in (self.threads, self.chip, self.weight, self.below, self.sure, self.command, self.pattern):
            layout.addWidget(widget)
        layout.addWidget(self.label)

    def _workload_chosen(self) -> None:
        """Offer what this workload takes, and the length and start that suit it."""
        known = WORKLOADS[self.workload.currentData()]
        own, cooling = known.mode is Mode.COMMAND, known.mode is Mode.HOLD
        chip = known.on_gpu
        for widget, needed in ((self.command, own), (self.pattern, own), (self.below, cooling), (self.sure, cooling),
                               (self.chip, chip), (self.weight, chip)):  # fmt: skip
            widget.setVisible(needed)
        self.threads.setVisible(known.mode not in (Mode.REST, Mode.GPU, Mode.COMMAND, Mode.HOLD))
        self.threads.setEnabled(self.threads.isVisibleTo(self))
        self.length.setEnabled(not cooling)
        self.times.setEnabled(not cooling)
        if cooling:
            self.times.setCurrentIndex(0)
        self.length.setEditText(known.usual)
        self.begins.setCurrentIndex(self.begins.findData(known.start))

    def asked(self) -> RunRequest:
        """Return what was chosen."""
        start: Start = self.begins.currentData()
        times = self.times.currentData() if self.times.isEnabled() else 1
        return RunRequest(
            self.workload.currentData(),
            self.length.currentText(),
            self.label.text().strip(),
            threads=self.threads.text() if self.threads.isEnabled() else "",
            command=self.command.text(),
            pattern=self.pattern.text(),
            times=times or 1,
            until_decided=times == UNTIL_DECIDED,
            start=start,
            below=self.below.text(),
            sure=self.sure.isChecked(),
            chip=self.chip.currentData() or "",
            weight=self.weight.currentData(),
        )


def chip_choice(presenter: Presenter) -> QComboBox:
    """Return the choice of a graphics chip: of several, none is taken for granted."""
    made = QComboBox()
    made.setAccessibleName("Graphics chip")
    made.setMinimumContentsLength(4)
    chips = presenter.outline.about.chips
    if len(chips) > 1:
        made.addItem("which graphics chip?", "")
    for chip in chips:
        made.addItem(f"on {chip.part}: {told_apart(chip)}", chip.part)
    if presenter.outline.renders_itself:
        made.addItem("software renderer, no chip", NO_CHIP)
    return made


def _scenes() -> QComboBox:
    made = QComboBox()
    made.setAccessibleName("Scene")
    made.setMinimumContentsLength(4)
    for weight in WEIGHTS:
        made.addItem(SCENES[weight], weight)
    made.setCurrentIndex(WEIGHTS.index("heavy"))
    return made


def _entry(placeholder: str, name: str) -> QLineEdit:
    made = QLineEdit()
    made.setPlaceholderText(placeholder)
    made.setAccessibleName(name)
    return made
