# Writes what a Ruby program does as lines of JSON: calls and returns of methods, with names once. Ruby 2.7 on, by its TracePoint;
# loaded by RUBYOPT, which the program finds as it would be.
path = ENV.delete("RICERCA_EVENTS")
before = ENV.delete("RICERCA_RUBYOPT")
before.to_s.empty? ? ENV.delete("RUBYOPT") : ENV["RUBYOPT"] = before
if path
  file = File.open(path, "w")
  own_pid = Process.pid
  quoted = lambda do |text|
    '"' + text.to_s.encode("UTF-8", invalid: :replace, undef: :replace).gsub(/[\\"]/) { |c| "\\" + c }
                   .gsub(/[\x00-\x1f]/) { |c| format("\\u%04x", c.ord) } + '"'
  end
  origin = Process.clock_gettime(Process::CLOCK_MONOTONIC, :nanosecond)
  start = Process.clock_gettime(Process::CLOCK_REALTIME, :nanosecond)
  file << %({"ricerca":"events","version":1,"language":"Ruby","program":[#{[$PROGRAM_NAME, *ARGV].map(&quoted).join(",")}],"body":#{quoted.($PROGRAM_NAME)},"pid":#{own_pid},"start_unix_ns":#{start}}\n)
  numbers = {}
  threads = {}
  thread_of = lambda { |thread| threads[thread] ||= threads.size }
  points = nil
  points = TracePoint.new(:call, :return, :c_call, :c_return) do |point|
    next if point.self.equal?(points) || Process.pid != own_pid || point.path.end_with?("/writers/writer.rb")
    at = Process.clock_gettime(Process::CLOCK_MONOTONIC, :nanosecond) - origin
    native = point.event == :c_call || point.event == :c_return
    key = [point.defined_class, point.method_id]
    number = numbers[key]
    unless number
      number = numbers[key] = numbers.size + 1
      owner = point.defined_class.to_s.sub(/\A#<Class:(.*)>\z/, '\1')
      name = owner == "Object" ? point.method_id.to_s : "#{owner}.#{point.method_id}"
      line = native ? 0 : (point.self.method(point.method_id).source_location || [nil, point.lineno])[1] rescue point.lineno
      file << %({"name":#{number},"function":#{quoted.(name)},"file":#{quoted.(native ? "" : point.path)},"first_line":#{line},"kind":"#{native ? "builtin" : "function"}"}\n)
    end
    thread = thread_of.(Thread.current)
    if point.event == :call || point.event == :c_call
      called_from = native ? point.lineno : (caller_locations(2, 1)&.first&.lineno || 0)
      file << %({"enter":#{number},"at":#{at},"thread":#{thread},"line":#{called_from}}\n)
    else
      file << %({"leave":#{number},"at":#{at},"thread":#{thread}}\n)
    end
  end
  at_exit do
    points.disable
    if Process.pid == own_pid
      file << %({"end":#{Process.clock_gettime(Process::CLOCK_MONOTONIC, :nanosecond) - origin}}\n)
      file.close
    end
  end
  points.enable
end
