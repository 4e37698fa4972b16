namespace Vembar.Operations.Stations.Contract;

/// <summary>A machine of a wave.</summary>
/// <param name="Machine">Its id.</param>
/// <param name="Name">The computer's name.</param>
/// <param name="State">Where it is on its way.</param>
/// <param name="Progress">How far it is; null for nothing.</param>
/// <param name="Heard">Bytes that it heard of the wave, where it has ended.</param>
/// <param name="Asked">Bytes that it asked for by itself, where it has ended.</param>
/// <param name="Remark">What is wrong; may be empty.</param>
public sealed record WaveMember(string Machine, string Name, MachineState State, TaskProgress? Progress, long Heard, long Asked,
    string Remark);
