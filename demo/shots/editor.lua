-- Opens a file of the harbour in Neovim with osprey editor, asks what a word means, and writes
-- what the terminal then shows to the file that SCREEN names.
vim.o.number, vim.o.laststatus, vim.o.signcolumn, vim.o.cmdheight = true, 0, 'no', 1
local client = vim.lsp.start_client({ name = 'osprey', cmd = { 'bin/osprey', 'editor' }, root_dir = vim.fn.getcwd() })
vim.api.nvim_create_autocmd('BufEnter', { pattern = '*.graphql', callback = function() vim.lsp.buf_attach_client(0, client) end })
vim.cmd('edit demo/harbour/schema/calls.graphql')
local function go(text)
  vim.fn.cursor(1, 1)
  vim.fn.search('\\V' .. text, 'cW')
end
go('cargoT')
vim.fn.append(vim.fn.line('.'), '  berthNumbr: Int')
-- What a window that floats shows is not a part of what can be read, so it is shown below.
local function below(text)
  local lines = vim.lsp.util.convert_input_to_markdown_lines(text)
  lines = vim.tbl_filter(function(line) return not line:match('^```') end, lines)
  vim.cmd('botright ' .. #lines .. 'new')
  vim.api.nvim_buf_set_lines(0, 0, -1, false, lines)
  vim.wo.number = false
end
vim.defer_fn(function()
  go('"craft_imo"')
  vim.fn.cursor(vim.fn.line('.'), vim.fn.col('.') + 2)
  vim.fn.winrestview({ topline = 1 })
  local answer = vim.lsp.buf_request_sync(0, 'textDocument/hover', vim.lsp.util.make_position_params(0, vim.lsp.get_client_by_id(client).offset_encoding), 5000)
  below(answer[client].result.contents)
  vim.cmd('redraw')
  local lines = {}
  for row = 1, vim.o.lines do
    local line = ''
    for column = 1, vim.o.columns do line = line .. vim.fn.screenstring(row, column) end
    table.insert(lines, (line:gsub('%s+$', '')))
  end
  vim.fn.writefile(lines, os.getenv('SCREEN'))
  vim.cmd('qa!')
end, 3000)
