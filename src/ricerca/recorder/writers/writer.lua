-- Writes what a Lua program does as lines of JSON: calls and returns, with names once. Lua 5.2 on, by its debug library; loaded by LUA_INIT.
-- Times are those of the processor: Lua has no finer clock of the wall.
local path = os.getenv("RICERCA_EVENTS")
local before = os.getenv("RICERCA_LUA_INIT")
local other = path and io.open(path, "r")
if other then -- another Lua that this program starts finds the same variables: the file is its parent's
  path = not other:read(1) and path or nil
  other:close()
end
local file = path and debug and debug.sethook and io.open(path, "w")
if file then
  file:setvbuf("full", 65536)
  local clock, getinfo, write, format, gsub, max = os.clock, debug.getinfo, file.write, string.format, string.gsub, math.max
  local remove, sethook, running, create = table.remove, debug.sethook, coroutine.running, coroutine.create
  local resume, status, unpack = coroutine.resume, coroutine.status, table.unpack or unpack
  local own_source = getinfo(1, "S").source
  local numbers, known, threads, thread_count, stacks = {}, 0, setmetatable({}, { __mode = "k" }), 0, {}
  local function quoted(text)
    return '"' .. gsub(gsub(text, '[\\"]', "\\%0"), "%c", function(c) return format("\\u%04x", c:byte()) end) .. '"'
  end
  local function now() return format("%d", math.floor(clock() * 1e9)) end
  local function number_of(info)
    local native = info.what == "C"
    local name = info.what == "main" and "main chunk" or info.name or (native and "builtin" or "function at line " .. info.linedefined)
    local place = native and "C:" .. name or info.source .. ":" .. info.linedefined
    local number = numbers[place]
    if not number then
      known = known + 1
      number = known
      numbers[place] = number
      local source = info.source:sub(1, 1) == "@" and info.source:sub(2) or ""
      write(file, '{"name":', number, ',"function":', quoted(name), ',"file":', quoted(source), ',"first_line":',
        native and 0 or max(info.linedefined, 0), ',"kind":"', native and "builtin" or "function", '"}\n')
    end
    return number
  end
  local function stack_of()
    local own = running() or "main"
    local number = threads[own]
    if not number then
      number = thread_count
      thread_count = thread_count + 1
      threads[own] = number
      stacks[number] = {}
    end
    return number, stacks[number]
  end
  local function hook(event)
    local at = now()
    local thread, stack = stack_of()
    if event == "return" or event == "tail call" then
      local top = remove(stack)
      if top then write(file, '{"leave":', top, ',"at":', at, ',"thread":', thread, "}\n") end
    end
    if event ~= "return" then
      local info, caller = getinfo(2, "nS"), getinfo(3, "lS")
      if info.source == own_source or (caller and caller.source == own_source) then
        stack[#stack + 1] = false
        return
      end
      local number = number_of(info)
      stack[#stack + 1] = number
      write(file, '{"enter":', number, ',"at":', at, ',"thread":', thread, ',"line":', caller and max(caller.currentline, 0) or 0, "}\n")
    end
  end
  local words = {}
  for place = 0, arg and #arg or 0 do words[#words + 1] = quoted(arg[place] or "") end
  write(file, '{"ricerca":"events","version":1,"language":"Lua","program":[', table.concat(words, ","), '],"start_unix_ns":',
    format("%d", os.time()), "000000000}\n")
  file:flush()
  coroutine.create = function(body)
    local thread = create(body)
    sethook(thread, hook, "cr")
    return thread
  end
  coroutine.wrap = function(body)
    local thread = coroutine.create(body)
    local function passed(good, ...)
      if not good then error((...), 0) end
      return ...
    end
    return function(...) return passed(resume(thread, ...)) end
  end
  local function finish()
    sethook()
    if file then
      write(file, '{"end":', now(), "}\n")
      file:close()
      file = nil
    end
  end
  local exit = os.exit
  os.exit = function(...) finish(); exit(...) end
  debug.getregistry().ricerca = setmetatable({}, { __gc = finish })
  ricerca_begin = function() ricerca_begin = nil; sethook(hook, "cr") end
end
if before and before ~= "" then -- what the person had there has its turn
  if before:sub(1, 1) == "@" then dofile(before:sub(2)) else assert((loadstring or load)(before, "=LUA_INIT"))() end
end
if ricerca_begin then ricerca_begin() end
