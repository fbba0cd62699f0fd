package page

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/require"
)

// browser is a Chromium without a window, spoken to in its DevTools protocol.
type browser struct {
	t       *testing.T
	ctx     context.Context
	conn    *websocket.Conn
	session string // of the page
	id      int
	said    []string // complaints, and requests for anything but the page
}

// open shows a file in a new browser.
func open(t *testing.T, file string) *browser {
	t.Helper()
	path, err := exec.LookPath("chromium")
	if err != nil {
		t.Skip("chromium is not there")
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	data := t.TempDir()
	cmd := exec.CommandContext(ctx, path, "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
		"--disable-component-update", "--disable-sync", "--user-data-dir="+data, "--remote-debugging-port=0", "--window-size=1280,800", "about:blank")
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		cancel()
		_ = cmd.Wait()
	})
	b := &browser{t: t, ctx: ctx}
	require.Eventually(t, func() bool {
		port, err := os.ReadFile(filepath.Join(data, "DevToolsActivePort"))
		lines := strings.Fields(string(port))
		if err != nil || len(lines) < 2 {
			return false
		}
		b.conn, _, err = websocket.Dial(ctx, "ws://127.0.0.1:"+lines[0]+lines[1], nil)
		return err == nil
	}, 30*time.Second, 100*time.Millisecond)
	b.conn.SetReadLimit(-1)
	target := b.call("", "Target.createTarget", map[string]any{"url": "about:blank"})["targetId"]
	b.session = b.call("", "Target.attachToTarget", map[string]any{"targetId": target, "flatten": true})["sessionId"].(string)
	for _, domain := range []string{"Runtime", "Log", "Network", "Page"} {
		b.call(b.session, domain+".enable", nil)
	}
	b.call(b.session, "Page.navigate", map[string]any{"url": "file://" + file})
	require.Eventually(t, func() bool { return b.eval("document.readyState") == "complete" }, 30*time.Second, 50*time.Millisecond)
	return b
}

// eval runs a script in the page.
func (b *browser) eval(script string) any {
	result := b.call(b.session, "Runtime.evaluate", map[string]any{"expression": script, "returnByValue": true})
	require.Nil(b.t, result["exceptionDetails"], script)
	return result["result"].(map[string]any)["value"]
}

// call makes a request, and takes note of what happens until it is answered.
func (b *browser) call(session, method string, params map[string]any) map[string]any {
	b.id++
	request := map[string]any{"id": b.id, "method": method, "params": params}
	if session != "" {
		request["sessionId"] = session
	}
	text, err := json.Marshal(request)
	require.NoError(b.t, err)
	require.NoError(b.t, b.conn.Write(b.ctx, websocket.MessageText, text))
	for {
		_, text, err := b.conn.Read(b.ctx)
		require.NoError(b.t, err)
		var m struct {
			ID     int
			Method string
			Params map[string]any
			Result map[string]any
			Error  any
		}
		require.NoError(b.t, json.Unmarshal(text, &m))
		switch {
		case m.ID == b.id:
			require.Nil(b.t, m.Error, method)
			return m.Result
		case m.Method == "Runtime.exceptionThrown", m.Method == "Runtime.consoleAPICalled", m.Method == "Log.entryAdded":
			b.said = append(b.said, string(text))
		case m.Method == "Network.requestWillBeSent":
			if url := m.Params["request"].(map[string]any)["url"].(string); !strings.HasPrefix(url, "file://") {
				b.said = append(b.said, url)
			}
		}
	}
}
