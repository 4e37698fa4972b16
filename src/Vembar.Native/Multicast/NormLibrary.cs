using System.Runtime.InteropServices;

namespace Vembar.Native.Multicast;

/// <summary>The functions of libnorm that are used (normApi.h): negative acknowledgements, RFC 5740.</summary>
internal static unsafe partial class NormLibrary
{
    internal const string Name = "libnorm.so.1";

    /// <summary>Kinds of events, of the many that there are.</summary>
    internal enum EventKind
    {
        Invalid = 0,
        SendQueueVacancy = 1,
        SendQueueEmpty = 2,
        SendFlushCompleted = 3,
        SendObjectSent = 6,
        SendObjectPurged = 7,
        RemoteSenderNew = 10,
        ReceiveObjectCompleted = 20,
        ReceiveObjectAborted = 21,
    }

    [StructLayout(LayoutKind.Sequential)]
    internal struct Event
    {
        public EventKind Kind;
        public nint Session;
        public nint Sender;
        public nint Object;
    }

    [LibraryImport(Name)]
    internal static partial nint NormCreateInstance([MarshalAs(UnmanagedType.U1)] bool priorityBoost);

    [LibraryImport(Name)] internal static partial void NormDestroyInstance(nint instance);
    [LibraryImport(Name)] internal static partial void NormStopInstance(nint instance);

    [LibraryImport(Name)]
    [return: MarshalAs(UnmanagedType.U1)]
    internal static partial bool NormGetNextEvent(nint instance, Event* happened, [MarshalAs(UnmanagedType.U1)] bool wait);

    [LibraryImport(Name, StringMarshalling = StringMarshalling.Utf8)]
    internal static partial nint NormCreateSession(nint instance, string address, ushort port, uint node);

    [LibraryImport(Name)] internal static partial void NormDestroySession(nint session);

    [LibraryImport(Name, StringMarshalling = StringMarshalling.Utf8)]
    [return: MarshalAs(UnmanagedType.U1)]
    internal static partial bool NormSetMulticastInterface(nint session, string name);

    [LibraryImport(Name, StringMarshalling = StringMarshalling.Utf8)]
    [return: MarshalAs(UnmanagedType.U1)]
    internal static partial bool NormSetTxPort(nint session, ushort port, [MarshalAs(UnmanagedType.U1)] bool reuse, string? bindAddress);

    [LibraryImport(Name)]
    [return: MarshalAs(UnmanagedType.U1)]
    internal static partial bool NormSetTTL(nint session, byte ttl);

    [LibraryImport(Name)]
    [return: MarshalAs(UnmanagedType.U1)]
    internal static partial bool NormSetMulticastLoopback(nint session, [MarshalAs(UnmanagedType.U1)] bool enable);

    [LibraryImport(Name, StringMarshalling = StringMarshalling.Utf8)]
    internal static partial void NormSetRxPortReuse(nint session, [MarshalAs(UnmanagedType.U1)] bool enable, string? bindAddress,
        string? senderAddress, ushort senderPort);

    [LibraryImport(Name)] internal static partial void NormSetTxRate(nint session, double bitsPerSecond);

    [LibraryImport(Name)]
    [return: MarshalAs(UnmanagedType.U1)]
    internal static partial bool NormSetTxSocketBuffer(nint session, uint bytes);

    [LibraryImport(Name)]
    [return: MarshalAs(UnmanagedType.U1)]
    internal static partial bool NormSetRxSocketBuffer(nint session, uint bytes);

    [LibraryImport(Name)]
    internal static partial void NormSetCongestionControl(nint session, [MarshalAs(UnmanagedType.U1)] bool enable,
        [MarshalAs(UnmanagedType.U1)] bool adjustRate);

    [LibraryImport(Name)] internal static partial void NormSetGrttEstimate(nint session, double seconds);
    [LibraryImport(Name)] internal static partial void NormSetGrttMax(nint session, double seconds);
    [LibraryImport(Name)] internal static partial void NormSetGroupSize(nint session, uint receivers);
    [LibraryImport(Name)] internal static partial void NormSetTxCacheBounds(nint session, long bytes, uint least, uint most);

    [LibraryImport(Name)]
    [return: MarshalAs(UnmanagedType.U1)]
    internal static partial bool NormStartSender(nint session, ushort sender, uint bufferSpace, ushort segment, ushort data, ushort parity,
        byte fec);

    [LibraryImport(Name)] internal static partial nint NormDataEnqueue(nint session, byte* data, uint length, byte* info, uint infoLength);
    [LibraryImport(Name)] internal static partial nint NormDataAccessData(nint handle);
    [LibraryImport(Name)] internal static partial long NormObjectGetSize(nint handle);
    [LibraryImport(Name)] internal static partial ushort NormObjectGetInfo(nint handle, byte* buffer, ushort room);

    [LibraryImport(Name)]
    [return: MarshalAs(UnmanagedType.U1)]
    internal static partial bool NormStartReceiver(nint session, uint bufferSpace);

    [LibraryImport(Name)] internal static partial void NormSetRxCacheLimit(nint session, ushort most);
    [LibraryImport(Name)] internal static partial void NormSetRxLoss(nint session, double percent);

    [LibraryImport(Name)]
    internal static partial void NormSetDefaultUnicastNack(nint session, [MarshalAs(UnmanagedType.U1)] bool enable);

    [LibraryImport(Name)]
    [return: MarshalAs(UnmanagedType.U1)]
    internal static partial bool NormNodeGetAddress(nint node, byte* address, uint* length, ushort* port);
}
