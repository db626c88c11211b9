//! The wire types of Outcrop's API: what the service answers and its clients read.
//!
//! Times are RFC 3339 in UTC, durations milliseconds (`…_ms`), ids lower-case hex. A type is at the same time the schema
//! in the OpenAPI document. One file holds one idea: [`ErrorItem`] is in `error`, [`DeployCheck`] in `deploy`.

mod access;
mod answer;
mod cleaning;
mod close_up;
mod deploy;
mod deploy_changes;
mod deploy_detail;
mod endpoint;
mod error;
mod explanation;
mod export;
mod found;
mod grant;
mod grouping;
mod handling;
mod installation;
mod log;
mod marker;
mod metric;
mod notice;
mod occurrence;
mod owner;
mod part;
mod people;
mod problem;
mod question;
mod report;
mod request;
mod scrubbing;
mod sending;
mod service;
mod session;
mod severity;
mod sheet;
mod slice;
mod stack;
mod stands_out;
mod storage;
mod ticket;
mod timeline;
mod trace;
mod traffic;
mod view;
mod why;
mod window;

/// The header of an answer that a standby gave which is behind: by how many seconds at most, or `unknown`.
pub const BEHIND: &str = "outcrop-behind";

pub use access::{
    AuditItem, AuditPage, AuditQuery, MadeToken, NewToken, SessionItem, SessionList, TokenItem, TokenList,
};
pub use answer::{
    Answer, AnswerColumn, AnswerPeriod, AnswerRow, AskQuery, NewSavedQuestion, QuestionCompletion, QuestionParts,
    SavedQuestion, SavedQuestionBefore, SavedQuestionList,
};
pub use cleaning::{CleaningCount, CleaningItem, CleaningKind, CleaningList, CleaningTrial, NewCleaning};
pub use close_up::{CloseUp, CloseUpItem, CloseUpList, CloseUpQuery, NewCloseUp, TakenOccurrence};
pub use deploy::{
    CheckQuery, DeployCheck, DeployItem, DeployList, DeployQuery, EventsTaken, FlagItem, NewDeploy, Sums,
};
pub use deploy_changes::{DeployChanges, EndpointChange, Owned, StoppedError};
pub use deploy_detail::{CommitItem, DeployDetail, TouchItem};
pub use endpoint::{
    Course, CourseStep, EndpointItem, EndpointList, EndpointThen, GroupItem, GroupList, SamplingNote, SlowSetting,
    StatusCount, TiedError, TrafficQuery,
};
pub use error::{
    Attention, ErrorDetail, ErrorItem, ErrorPage, FlagCounts, HitEndpoint, ListPart, MovedCause, PartCounts,
    RequestCounts, Sentence, Sighting,
};
pub use explanation::{Counted, Explanation};
pub use export::{ExportQuery, NEXT};
pub use found::{Candidate, FindQuery, FoundPage};
pub use grant::{Consent, ConsentAsked, ConsentQuery, GrantItem, GrantList, SentBack};
pub use grouping::{
    CauseItem, CauseList, ChangeQuery, ChangesQuery, GroupingChange, GroupingChangeItem, GroupingChanges,
    GroupingOutcome, JoinedErrors, NamedError, SplitError, SplitPart, Undone,
};
pub use handling::{
    HandlingAction, HandlingChange, HandlingList, HandlingOfMany, HandlingQuery, HandlingState, History, HistoryEntry,
    HistoryKind, HistoryQuery, SettledError, SettledOutcome, SettledVerdict, UndoneHandling, settled_in_words,
};
pub use installation::{FindingItem, Installation};
pub use log::{HourCount, LeadUp, LeadUpStep, LogItem, LogPage, LogQuery, LogTemplate, LogTemplates};
pub use marker::{MarkerCheck, MarkerItem, MarkerList, NewMarker};
pub use metric::{
    CountedQuestion, MetricCourse, MetricItem, MetricLine, MetricList, MetricListQuery, MetricQuery, NewCounted,
};
pub use notice::{
    ExpectedRun, NoticeItem, NoticeLink, NoticeLinkAction, NoticeList, NoticeQuery, NoticeRule, NoticeRuleItem,
    NoticeRuleList, NoticeTrial, NoticeTrialResult, NoticeWay, NoticeWayItem, NoticeWayList, NoticeWishes, PaceOf,
    PassedOn, QuietHours, ShownNotice, ShownNotices, Threshold, TimesOfDay, TriedNotice,
};
pub use occurrence::{
    AlsoReported, ChoiceQuery, ChosenOccurrence, OccurrenceDetail, OccurrenceItem, OccurrencePage, OccurrenceQuery,
    RequestPart, RequestRow,
};
pub use owner::{HandOver, NewOwnerRule, OwnerList, OwnerRuleItem, ServiceOwner};
pub use part::{PartItem, PartList, PartQuery, UserItem, UserPage, UserQuery};
pub use people::{
    Acceptance, InvitationItem, InvitationList, InvitationSecret, Invited, MadeInvitation, MemberItem, MemberList,
    MemberRole, NewInvitation, NewRole, NewTeam, ServiceLimit, TeamChange, TeamItem, TeamList,
};
pub use problem::Problem;
pub use question::{AttributeValues, Completion, CompletionQuery, Mistake, ValueCount};
pub use report::{Report, Reported};
pub use request::{RequestItem, RequestPage, SlowItem, SlowList};
pub use scrubbing::{MadeScrubRule, NewScrubRule, ScrubRuleItem, ScrubRuleList, ScrubTrial, ScrubbedText};
pub use sending::{
    DropItem, DropList, KeyItem, KeyList, MadeDrop, MadeKey, NewDrop, NewKey, RefusedItem, RefusedList, RefusedQuery,
    Rotation,
};
pub use service::{EndpointWeight, ServiceItem, ServiceList, ServiceSettings};
pub use session::{Member, NewPassword, Preferences, SignIn, Theme, Times};
pub use severity::Severity;
pub use sheet::{MadeSheetQuery, NewSheet, Sheet, SheetDocument, SheetItem, SheetList, SheetPart, SheetWidth};
pub use slice::{NewSlice, SliceItem, SliceList};
pub use stack::{Exception, Frame, SourceLines, Stack, Variable};
pub use stands_out::{Common, SharedByLines, StandsOut};
pub use storage::{Storage, StorageItem};
pub use ticket::{Header, TicketItem, TicketLink, Tracker, TrackerSetting, TrackerTrial, TriedRequest};
pub use timeline::{Layer, Timeline, TimelineQuery};
pub use trace::{PathItem, RepeatedItem, SpanEventItem, SpanItem, SpanLink, SpanOccurrence, TraceDetail};
pub use traffic::{
    CallItem, CallList, FleetDeploy, FleetItem, InstanceItem, InstanceList, InstanceThen, NowEcho, NowItem, NowReport,
    PlatformEventItem, Ready, TroubleItem, VersionShare,
};
pub use view::{NewSavedView, SavedView, SavedViewList};
pub use why::{NextStep, Why, WhySentence};
pub use window::{ErrorQuery, Period, Then};
