-- Works on a project in Neovim, by its own client, and prints what it sees: a line of JSON for
-- each step. The project's folder and the program are given in the environment.
local dir, program = os.getenv('PROJECT'), os.getenv('OSPREY')
-- Whoever waits for the answer of the client looks often.
local function wait(what, done)
  if not vim.wait(30000, done, 20) then error('waited in vain for ' .. what) end
end

local function tell(step, value)
  io.stdout:write(vim.json.encode({ step = step, value = value }) .. '\n')
end

local client = vim.lsp.start_client({ name = 'osprey', cmd = { program, 'editor' }, root_dir = dir })
vim.api.nvim_create_autocmd('BufEnter', { pattern = '*.graphql', callback = function() vim.lsp.buf_attach_client(0, client) end })
local function open(file)
  vim.cmd('edit ' .. dir .. '/' .. file)
  wait('the client', function() return #vim.tbl_keys(vim.lsp.buf_get_clients(0)) > 0 end)
end

-- Puts the cursor on a text of the buffer, some characters behind its beginning.
local function go(text, behind)
  vim.fn.cursor(1, 1)
  if vim.fn.search('\\V' .. text, 'cW') == 0 then error('the buffer has no ' .. text) end
  vim.fn.cursor(vim.fn.line('.'), vim.fn.col('.') + (behind or 0))
end

local function encoding() return vim.lsp.get_client_by_id(client).offset_encoding end

local function ask(method, more)
  local params = vim.lsp.util.make_position_params(0, encoding())
  local answers = vim.lsp.buf_request_sync(0, method, vim.tbl_extend('force', params, more or {}), 30000)
  local answer = answers and answers[client]
  if answer == nil then error('no answer to ' .. method) end
  if answer.err or answer.error then return { error = (answer.err or answer.error).message } end
  return answer.result
end

local function problems()
  local list = {}
  for _, d in ipairs(vim.diagnostic.get(0)) do
    table.insert(list, { line = d.lnum + 1, column = d.col + 1, severity = d.severity, message = d.message })
  end
  return list
end

local function line() return vim.api.nvim_get_current_line() end

local ok, err = pcall(function()
  open('schema/calls.graphql')
  go('departedAt')
  wait('what the stores hold', function() local r = ask('textDocument/hover') return r ~= nil and r ~= vim.NIL and r.contents end)
  tell('hover', ask('textDocument/hover').contents.value)
  go('craft_imo', 2)
  tell('column', ask('textDocument/hover').contents.value)

  -- A column that is not there, told where it stands, and mended by what is offered.
  go('departedAt: DateTime')
  vim.fn.append(vim.fn.line('.'), '  berthNumbr: Int')
  vim.fn.cursor(vim.fn.line('.') + 1, 4)
  wait('the problem', function() return #problems() > 0 end)
  tell('problems', problems())
  local range = vim.lsp.util.make_range_params(0, encoding())
  local actions = vim.lsp.buf_request_sync(0, 'textDocument/codeAction', vim.tbl_extend('force', range, { context = { diagnostics = {} } }), 30000)[client].result
  local titles = {}
  for _, a in ipairs(actions) do table.insert(titles, a.title) end
  tell('actions', titles)
  vim.lsp.util.apply_workspace_edit(actions[1].edit, encoding())
  wait('that the problem is gone', function() return #problems() == 0 end)
  tell('mended', line())

  -- Completion, by the function that Ctrl-X Ctrl-O calls.
  go('craft_imo"', 0)
  vim.cmd('normal! i')
  tell('completion', vim.tbl_map(function(i) return i.label end, ask('textDocument/completion').items))

  -- From an operation to the type, across files.
  open('operations/Board.graphql')
  go('doubleHull', 3)
  vim.lsp.buf.definition()
  wait('the definition', function() return vim.fn.expand('%:t') == 'craft.graphql' end)
  tell('definition', line())
  tell('references', #ask('textDocument/references', { context = { includeDeclaration = true } }))
  vim.cmd('edit ' .. dir .. '/operations/Board.graphql')
  go('query Board', 8)
  tell('plan', ask('textDocument/hover').contents.value)

  -- A field is called otherwise, in the types and in the operations.
  vim.cmd('edit ' .. dir .. '/schema/craft.graphql')
  go('lengthM: Float!', 2)
  vim.lsp.buf.rename('length')
  wait('the new name', function() return line():find('length: Float!', 1, true) ~= nil end)
  tell('renamed', line())
  vim.cmd('wall')

  -- A text with letters of several bytes, edited in the middle, stays what it is on both sides.
  open('schema/log.graphql')
  vim.api.nvim_buf_set_lines(0, 0, 0, false, { '# 😀 Häfen', '' })
  vim.api.nvim_buf_set_text(0, 0, 7, 0, 7, { 'die ' })
  vim.fn.cursor(1, 1)
  go('interface Logged', 12)
  tell('behind', ask('textDocument/hover').contents.value)

  -- The file is written as tidy has it.
  go('interface Named {')
  vim.api.nvim_set_current_line('interface   Named{')
  local edits = vim.lsp.buf_request_sync(0, 'textDocument/formatting', { textDocument = vim.lsp.util.make_text_document_params(), options = { tabSize = 2, insertSpaces = true } }, 30000)[client].result
  vim.lsp.util.apply_text_edits(edits, 0, encoding())
  go('interface Named')
  tell('formatted', line())

  local ended = false
  local stop = vim.lsp.get_client_by_id(client)
  stop.stop()
  wait('its end', function() return stop.is_stopped() end)
  tell('end', true)
end)
if not ok then tell('error', tostring(err)) end
vim.cmd('qa!')
