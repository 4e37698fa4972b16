namespace Vembar.Station.Waves;

/// <summary>What waves say in the station's log.</summary>
internal static partial class WaveLog
{
    [LoggerMessage(Level = LogLevel.Information, Message = "wave {Wave}: {Text}")]
    public static partial void Said(ILogger log, string wave, string text);

    [LoggerMessage(Level = LogLevel.Warning, Message = "wave {Wave}: {Problem}")]
    public static partial void Failed(ILogger log, string wave, string problem);
}
