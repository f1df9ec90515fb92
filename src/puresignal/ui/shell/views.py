"""The list of views: a row for each, in the order of their buttons."""

from __future__ import annotations

from puresignal.translation import mark
from puresignal.ui.state.view import ViewAction, ViewSpec

VIEWS = (
    ViewSpec(
        mark("Inputs"),
        mark("What arrives, and from where."),
        "puresignal.ui.inputs.inputs_view:InputsView",
        (
            ViewAction(mark("Set up the kit…"), "Ctrl+Shift+K", "set_up"),
            ViewAction(mark("Set up from this take…"), "", "set_up_from_take", "Take"),
        ),
    ),
    ViewSpec(
        mark("Mapping"),
        mark("What arrives, what it means, and what leaves."),
        "puresignal.ui.mapping.mapping_view:MappingView",
    ),
    ViewSpec(
        mark("Velocity"),
        mark("How hard hits arrive, and how hard they leave."),
        "puresignal.ui.velocity.velocity_view:VelocityView",
    ),
    ViewSpec(
        mark("Takes"),
        mark("What was played, and what was made of it."),
        "puresignal.ui.takes.takes_view:TakesView",
        (
            ViewAction(mark("Played"), "F6", "show_played"),
            ViewAction(mark("Clean"), "F7", "show_clean"),
            ViewAction(mark("Both"), "F8", "show_both"),
            ViewAction(mark("Path and selected note"), "F9", "toggle_side"),
            ViewAction(mark("All rows of the kit"), "", "toggle_rows"),
            ViewAction(mark("Only the chosen take"), "O", "toggle_alone", "Take"),
            ViewAction(mark("Beats of the chosen take"), "G", "toggle_beats", "Take"),
            ViewAction(mark("Section of the selected bars"), "S", "make_section", "Take"),
            ViewAction(mark("Playing order of the sections…"), "", "ask_order", "Take"),
            ViewAction(mark("Sections in playing order"), "Shift+S", "toggle_in_order", "Take"),
            ViewAction(mark("Select notes…"), "Ctrl+F", "ask_selection", "notes"),
            ViewAction(mark("Enter notes step by step"), "Shift+E", "toggle_steps", "notes"),
            ViewAction(mark("List of events"), "Ctrl+L", "toggle_list", "notes"),
            ViewAction(mark("Hear notes when clicked"), "Ctrl+Shift+E", "toggle_click_hear", "notes"),
            ViewAction(mark("Controller strip"), "Ctrl+Alt+L", "toggle_controls", "notes"),
            ViewAction(mark("Face of the input"), "Ctrl+Alt+F", "toggle_face", "notes"),
            ViewAction(mark("Words and markers"), "Ctrl+Alt+W", "toggle_words", "notes"),
            ViewAction(mark("Velocity strip"), "Ctrl+Shift+L", "toggle_strip", "notes"),
            ViewAction(mark("Next selected note"), "F3", "step_forward", "notes"),
            ViewAction(mark("Previous selected note"), "Shift+F3", "step_back", "notes"),
        ),
    ),
    ViewSpec(
        mark("Outputs"),
        mark("Tracks, files and clips."),
        "puresignal.ui.outputs.outputs_view:OutputsView",
        (
            ViewAction(mark("Copy clip as file"), "Ctrl+Shift+C", "copy", "File"),
            ViewAction(mark("Render to audio…"), "Ctrl+R", "ask_render", "File"),
            ViewAction(mark("Destinations…"), "", "show_destinations"),
        ),
    ),
)
