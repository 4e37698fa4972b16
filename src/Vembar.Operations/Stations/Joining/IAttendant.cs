using Vembar.Common;
using Vembar.Operations.Stations.Contract;

namespace Vembar.Operations.Stations.Joining;

/// <summary>Somebody at the console of a machine.</summary>
public interface IAttendant
{
    /// <summary>Asks who it is; null when nobody is there any more.</summary>
    AttendRequest? SignIn();

    /// <summary>Asks what the machine is to become, and whether what is on its disk may go; null to sign in anew.</summary>
    /// <param name="answer">Who it is, and what there is to choose from.</param>
    /// <param name="machine">The machine.</param>
    Approval? Choose(AttendAnswer answer, MachineReport machine);

    /// <summary>Tells what was wrong.</summary>
    void Refused(VembarException problem);
}
