using System.Text.Json;
using System.Text.Json.Serialization;

namespace Vembar.Operations.Stations.Contract;

/// <summary>How what stations, machines and people tell each other is written.</summary>
[JsonSourceGenerationOptions(JsonSerializerDefaults.Web, AllowDuplicateProperties = false)]
[JsonSerializable(typeof(JoinRequest))]
[JsonSerializable(typeof(JoinAnswer))]
[JsonSerializable(typeof(PollAnswer))]
[JsonSerializable(typeof(TaskReport))]
[JsonSerializable(typeof(TaskReportAnswer))]
[JsonSerializable(typeof(Approval))]
[JsonSerializable(typeof(AttendRequest))]
[JsonSerializable(typeof(AttendAnswer))]
[JsonSerializable(typeof(AttendedApproval))]
[JsonSerializable(typeof(CaptureOrder))]
[JsonSerializable(typeof(MachineInfo))]
[JsonSerializable(typeof(IReadOnlyList<MachineInfo>))]
[JsonSerializable(typeof(MachineDetail))]
[JsonSerializable(typeof(IReadOnlyList<MachineEvent>))]
[JsonSerializable(typeof(IReadOnlyList<StationImage>))]
[JsonSerializable(typeof(IReadOnlyList<AuditEntry>))]
[JsonSerializable(typeof(IReadOnlyList<TokenInfo>))]
[JsonSerializable(typeof(IReadOnlyList<ImportRow>))]
[JsonSerializable(typeof(IReadOnlyDictionary<string, string>))]
[JsonSerializable(typeof(ImportAnswer))]
[JsonSerializable(typeof(TokenOrder))]
[JsonSerializable(typeof(NewToken))]
[JsonSerializable(typeof(Caller))]
[JsonSerializable(typeof(WavePlan))]
[JsonSerializable(typeof(WaveRequest))]
[JsonSerializable(typeof(WaveInfo))]
[JsonSerializable(typeof(IReadOnlyList<WaveInfo>))]
[JsonSerializable(typeof(Problem))]
public sealed partial class StationJson : JsonSerializerContext;
