# The public names, each once: type checkers read them here, and so does the package when one is first used.

from ._version import __version__ as __version__
from .base.delays import Delay as Delay
from .base.errors import (
    LibramenError as LibramenError,
    OutputError as OutputError,
    ReplayError as ReplayError,
    StudyError as StudyError,
    TraceError as TraceError,
    UnitError as UnitError,
)
from .base.times import Moment as Moment
from .bill.bill import Bill as Bill
from .bill.price_list import (
    PricedSize as PricedSize,
    PriceList as PriceList,
    price_list as price_list,
)
from .load.evidence import Evidence as Evidence
from .load.unqueue import unqueue as unqueue
from .outcome.events import Event as Event
from .outcome.figures import (
    Figures as Figures,
    RouteFigures as RouteFigures,
)
from .outcome.findings import Finding as Finding
from .outcome.outcome import Outcome as Outcome
from .outcome.replay import replay as replay
from .outcome.service_outcome import ServiceOutcome as ServiceOutcome
from .outcome.stretch import StretchFigures as StretchFigures
from .prices.fees import Fee as Fee
from .prices.lines import BillLine as BillLine
from .prices.replica_hours import Commitment as Commitment
from .questions.against import (
    Against as Against,
    Change as Change,
    against as against,
    read_baseline as read_baseline,
)
from .questions.break_even import (
    BreakEven as BreakEven,
    Crossing as Crossing,
    break_even as break_even,
)
from .questions.check import (
    Check as Check,
    check as check,
)
from .questions.compare import (
    Comparison as Comparison,
    compare as compare,
)
from .questions.context import Context as Context
from .questions.dossier import (
    Dossier as Dossier,
    dossier as dossier,
)
from .questions.events import (
    Events as Events,
    Ways as Ways,
    events as events,
)
from .questions.headroom import (
    Headroom as Headroom,
    headroom as headroom,
)
from .questions.limits import Room as Room
from .questions.repeats import (
    Repeated as Repeated,
    Repeats as Repeats,
    repeat as repeat,
)
from .questions.search import (
    Search as Search,
    search as search,
)
from .rules.faults import (
    Crash as Crash,
    Dependency as Dependency,
    Reclaim as Reclaim,
    Slow as Slow,
    ZoneLoss as ZoneLoss,
)
from .rules.rollouts import (
    Canary as Canary,
    Rolling as Rolling,
    StopStart as StopStart,
    Switch as Switch,
)
from .rules.scaling import (
    Ahead as Ahead,
    Custom as Custom,
    Fixed as Fixed,
    Observation as Observation,
    OnArrival as OnArrival,
    Steps as Steps,
    Target as Target,
)
from .runs.store import Store as Store
from .study.catalogue import read_catalogue as read_catalogue
from .study.file import load_study as load_study
from .study.hosting import Hosting as Hosting
from .study.objectives import (
    Objective as Objective,
    Objectives as Objectives,
)
from .study.plan import Plan as Plan
from .study.service import (
    Service as Service,
    Size as Size,
    Tier as Tier,
)
from .study.study import (
    Study as Study,
)
from .study.system import System as System
from .study.terms import (
    Account as Account,
    MonthTable as MonthTable,
    Terms as Terms,
)
from .trace.make import make_trace as make_trace
from .trace.read import read_trace as read_trace
from .trace.shape import (
    scaled_in_chunks as scaled_in_chunks,
    shaped as shaped,
)
from .trace.source import Demand as Demand
from .trace.summary import (
    Summary as Summary,
    summarise as summarise,
)
from .trace.trace import (
    Trace as Trace,
)
from .trace.write import write_trace as write_trace
from .trust.backtest import (
    Backtest as Backtest,
    backtest as backtest,
)
from .trust.doubt import (
    Doubt as Doubt,
    doubt as doubt,
)
from .trust.fit import (
    Fitted as Fitted,
    fit as fit,
)
from .trust.grade import Grade as Grade
