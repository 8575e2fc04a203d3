"""Every command that a page, a terminal or a script can give, from whichever room it comes, and how one is read from fields."""

from escalera.core import edits as edits
from escalera.core.commands.form_reading import read_command, write_command
from escalera.core.commands.judgement_commands import AcceptAsFound, FitScale
from escalera.core.commands.layout_commands import Arrange, LayOut
from escalera.core.commands.move_commands import MakeMoves
from escalera.core.edits import EDITS as COMMANDS
from escalera.core.feedback import remark_edits as remark_edits
from escalera.core.moves import option_text as option_text
from escalera.core.planning import people_edits as people_edits
from escalera.core.planning import work_edits as work_edits
from escalera.core.tasks import task_edits as task_edits

__all__ = ["COMMANDS", "AcceptAsFound", "Arrange", "FitScale", "LayOut", "MakeMoves", "read_command", "write_command"]
