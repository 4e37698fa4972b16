namespace Vembar.Station.Boot;

internal static partial class BootLog
{
    [LoggerMessage(Level = LogLevel.Warning, Message = "machines cannot start from the network now: {Why}")]
    public static partial void Failed(ILogger log, string why);

    [LoggerMessage(Level = LogLevel.Warning,
        Message = "boot loaders wait for an IPv6 router, for nobody can tell them now that there is none: {Why}")]
    public static partial void NoRouterAnswers(ILogger log, string why);

    [LoggerMessage(Level = LogLevel.Warning, Message = "the starter {Starter} did not report from {Address}: it gets {Other}")]
    public static partial void Silent(ILogger log, string starter, string address, string other);

    [LoggerMessage(Level = LogLevel.Information, Message = "dnsmasq: {Line}")]
    public static partial void Said(ILogger log, string line);
}
